"""The invented firm: Ferrow & Lisk Hydrometry, its people, trees, stages, customers and quotas."""

from datetime import date, timedelta
from random import Random
from typing import Any

from wise_tally.core.calendar import FiscalCalendar, Period
from wise_tally.core.money import apportion

FISCAL = FiscalCalendar(4)
SEASON = (6, 7, 8, 6, 7, 8, 7, 8, 8, 9, 11, 15)
TEAMS = (
    ("north", "North region", "", "m1"),
    ("south", "South region", "", "m1"),
    ("fells", "Fells team", "north", "m2"),
    ("lakes", "Lakes team", "north", "m3"),
    ("rivers", "Rivers team", "south", "m4"),
    ("coast", "Coast team", "south", "m5"),
)
MANAGERS = (
    ("m1", "Ines Marchbank", ""),
    ("m2", "Bram Oxley", "fells"),
    ("m3", "Salla Venn", "lakes"),
    ("m4", "Corin Hale", "rivers"),
    ("m5", "Dilys Rowan", "coast"),
)
# Identifier, name, team, relative size of the quota.
REPS = (
    ("r01", "Iva Marrin", "fells", 300),
    ("r02", "Odran Tully", "fells", 320),
    ("r03", "Petra Sund", "fells", 280),
    ("r04", "Levan Osk", "lakes", 300),
    ("r05", "Mina Corrow", "lakes", 240),
    ("r06", "Teague Arlen", "lakes", 260),
    ("r07", "Runa Beck", "lakes", 200),
    ("r08", "Joss Merrow", "rivers", 300),
    ("r09", "Nadia Pell", "rivers", 280),
    ("r10", "Olwen Strake", "rivers", 260),
    ("r11", "Kit Varley", "rivers", 220),
    ("r12", "Hanne Lund", "coast", 300),
    ("r13", "Emrys Dowd", "coast", 260),
    ("r14", "Tamsin Quill", "coast", 180),
)
CALLS_EVERYTHING_COMMIT = "r06"
OVERSTAYS_IN_PLAN = "r02"
LEFT, JOINED = "r11", "r14"
TERRITORIES = (
    ("headwaters", "Headwaters", ""),
    ("north_fells", "North Fells", "headwaters"),
    ("south_fells", "South Fells", "headwaters"),
    ("lowland", "Lowland Rivers", ""),
    ("upper_vale", "Upper Vale", "lowland"),
    ("lower_vale", "Lower Vale", "lowland"),
    ("coastal", "Coast and Estuary", ""),
    ("east_coast", "East Coast", "coastal"),
    ("west_coast", "West Coast", "coastal"),
    ("lakeland", "Lakes", ""),
)
TERRITORIES_OF_TEAM = {
    "fells": ("north_fells", "south_fells"),
    "lakes": ("lakeland", "south_fells"),
    "rivers": ("upper_vale", "lower_vale"),
    "coast": ("east_coast", "west_coast"),
}
# What territories are to bring of all quotas, in per cent.
PARTS_OF_TERRITORIES = {
    "north_fells": 17, "south_fells": 19, "upper_vale": 17, "lower_vale": 16, "east_coast": 9, "west_coast": 9, "lakeland": 13,
}  # fmt: skip
# The same by product group and by source.
PARTS_OF_GROUPS = {"Gauging stations": 42, "Buoys": 22, "Telemetry": 14, "Visits": 16}
PARTS_OF_SOURCES = {"Referral": 36, "Tender portal": 22, "Enquiry form": 21, "Field day": 14, "Partner": 7}
# Identifier, name, kind, probability, category, typical days.
STAGES = {
    "new_site": (
        ("ns_enquiry", "Enquiry", "open", 10, "early", 12),
        ("ns_survey", "Site survey", "open", 25, "early", 20),
        ("ns_plan", "Station plan", "open", 45, "best_case", 36),
        ("ns_offer", "Offer", "open", 60, "best_case", 22),
        ("ns_terms", "Terms", "open", 85, "commit", 14),
        ("ns_won", "Won", "won", 100, "", ""),
        ("ns_lost", "Lost", "lost", 0, "", ""),
    ),
    "renewal": (
        ("re_review", "Review", "open", 50, "early", 20),
        ("re_offer", "Offer", "open", 70, "best_case", 20),
        ("re_terms", "Terms", "open", 90, "commit", 10),
        ("re_won", "Won", "won", 100, "", ""),
        ("re_lost", "Lost", "lost", 0, "", ""),
    ),
}
SOURCES = ("Referral", "Tender portal", "Field day", "Enquiry form", "Partner")
# fmt: off
PLACES = (
    "Arden", "Carrow", "Selt", "Marle", "Thorn", "Wick", "Ister", "Ludd", "Garron",
    "Fallow", "Penwater", "Skerry", "Aller", "Brock", "Culm", "Derrow", "Esker", "Fenlow",
    "Gannel", "Hollin", "Inver", "Keld", "Lough", "Mere", "Nether", "Orrin", "Pella",
    "Quern", "Rush", "Stell",
)
# fmt: on
KINDS = (
    ("Water Board", "water"),
    ("Dam Operators", "dams"),
    ("Port Authority", "ports"),
    ("Fish Farm", "aquaculture"),
    ("River Trust", "conservation"),
    ("Drainage Union", "water"),
    ("Harbour Office", "ports"),
    ("Catchment Group", "conservation"),
)
ACCOUNTS = 240
Rows = list[dict[str, Any]]


def settings() -> Rows:
    """Euros, Dublin, fiscal year from April."""
    return [
        {"key": "currency", "value": "EUR"},
        {"key": "fiscal_year_start_month", "value": "4"},
        {"key": "organisation", "value": "Ferrow & Lisk Hydrometry"},
        {"key": "time_zone", "value": "Europe/Dublin"},
    ]


def people(today: date) -> tuple[Rows, Rows]:
    """People and memberships; one rep left half a year ago, one joined this quarter, one changed team a year ago."""
    quarter = FISCAL.containing(today, "quarter")
    began = date(today.year - 6, 4, 1)
    rows = [{"person_id": "a1", "name": "Wilf Ansty", "role": "admin", "email": "a1@ferrow-lisk.example"}]
    for key, name, team in MANAGERS:
        rows.append({"person_id": key, "name": name, "role": "manager", "team_id": team})
    for key, name, team, _ in REPS:
        rows.append({"person_id": key, "name": name, "role": "rep", "team_id": team, "commission_rate": "2.5"})
    for row in rows:
        row["email"] = f"{row['person_id']}@ferrow-lisk.example"
        row["active_from"] = began.isoformat()
        if row["person_id"] == LEFT:
            row["active_to"] = _last_day(today)
        if row["person_id"] == JOINED:
            row["active_from"] = (quarter.starts_on + timedelta(days=6)).isoformat()
    moved = [
        {"person_id": "r07", "team_id": "coast", "from_on": began.isoformat()},
        {"person_id": "r07", "team_id": "lakes", "from_on": (today - timedelta(days=370)).isoformat()},
    ]
    return rows, moved


def teams(today: date) -> tuple[Rows, Rows]:
    """The team tree; the Lakes team moved from the south to the north fourteen months ago."""
    rows = [{"team_id": k, "name": n, "parent_id": p, "manager_id": m} for k, n, p, m in TEAMS]
    moved = [
        {"team_id": "lakes", "parent_id": "south", "from_on": f"{today.year - 6}-04-01"},
        {"team_id": "lakes", "parent_id": "north", "from_on": (today - timedelta(days=430)).isoformat()},
    ]
    return rows, moved


def stages(today: date) -> tuple[Rows, Rows]:
    """Stages and their dated rules: Offer's probability was raised a year and a half ago."""
    rows, rules = [], []
    for process, entries in STAGES.items():
        for position, (key, name, kind, probability, category, days) in enumerate(entries, 1):
            row = {"stage_id": key, "process_id": process, "name": name, "position": position, "kind": kind}
            rows.append({**row, "probability": probability, "category_id": category, "typical_days": days})
    for days_ago, probability in ((2000, 55), (540, 60)):
        moment = f"{today - timedelta(days=days_ago)}T00:00:00+00:00"
        rule = {"stage_id": "ns_offer", "effective_at": moment, "probability": probability}
        rules.append({**rule, "category_id": "best_case", "typical_days": 22})
    return rows, rules


def accounts(random: Random) -> Rows:
    """Invented customers spread over the territories, each with an owner whose team works there."""
    rows: Rows = []
    names: set[str] = set()
    teams_of = [(team, territory) for team, places in TERRITORIES_OF_TEAM.items() for territory in places]
    while len(rows) < ACCOUNTS:
        kind, industry = random.choice(KINDS)
        name = f"{random.choice(PLACES)} {random.choice(('', '', 'Upper ', 'Great ', 'Old '))}{kind}".replace("  ", " ")
        if name in names:
            continue
        names.add(name)
        team, territory = random.choice(teams_of)
        owner = random.choice([key for key, _, of_team, _ in REPS if of_team == team and key != JOINED])
        row = {"account_id": f"ac{len(rows) + 1:03}", "name": name, "kind": "organisation", "territory_id": territory}
        rows.append({**row, "owner_id": owner, "industry": industry, "country": "IE"})
    return rows


def quotas(today: date) -> Rows:
    """Four years of monthly quotas by the season curve: per rep, per territory, and the company's own, set a little higher."""
    rows: Rows = []
    this_year = FISCAL.fiscal_year_of(today)
    for year in range(this_year - 2, this_year + 2):
        growth = 100 + 6 * (year - this_year)
        months = FISCAL.months_of(year)
        total = 0
        for key, _, _, thousands in REPS:
            value = thousands * 1800 * growth
            total += value
            rows += [row for row in _months("person", key, value, months) if _has_targets(key, today, row["starts_on"])]
        rows += _months("company", "", total * 104 // 100, months)
        for territory, share in PARTS_OF_TERRITORIES.items():
            rows += _months("territory", territory, total * share // 100, months)
    return rows


def _has_targets(key: str, today: date, starts_on: str) -> bool:
    """Whether a rep still had targets in a month: from the one after the last day nobody has."""
    return key != LEFT or starts_on <= _last_day(today)


def _last_day(today: date) -> str:
    return (today - timedelta(days=182)).isoformat()


def further_quotas(today: date) -> Rows:
    """Targets beside the won amount: deals, margin and activities of reps, money through partners, this year and last."""
    rows = [*_activity_targets(today), *_divided_targets(today)]
    this_year = FISCAL.fiscal_year_of(today)
    for month in (month for year in (this_year - 1, this_year) for month in FISCAL.months_of(year)):
        span = {"starts_on": month.starts_on.isoformat(), "ends_on": month.ends_on.isoformat()}
        for key, _, _, thousands in REPS:
            if not _has_targets(key, today, span["starts_on"]):
                continue
            own = {"subject": "person", "subject_id": key, **span}
            rows += [
                {**own, "metric": "won_deals", "value": str(2 + thousands // 300)},
                {**own, "metric": "margin", "value": f"{thousands * 600}.00"},
            ]
        for key, value in (("p1", 12_000), ("p2", 9_000), ("p3", 9_000)):
            partner = {"subject": "partner", "subject_id": key, **span, "metric": "won_amount"}
            rows.append({**partner, "value": f"{value}.00"})
    return rows


def _divided_targets(today: date) -> Rows:
    """What the company is to win by product group and by source, this year and last, and pieces of telemetry."""
    rows: Rows = []
    this_year = FISCAL.fiscal_year_of(today)
    for year in (this_year - 1, this_year):
        months, whole = (
            FISCAL.months_of(year),
            sum(thousands for *_, thousands in REPS) * 1800 * (100 + 6 * (year - this_year)),
        )
        for name, parts in (("product_group", PARTS_OF_GROUPS), ("source", PARTS_OF_SOURCES)):
            for value, share in parts.items():
                rows += [{**row, name: value} for row in _months("company", "", whole * share // 100, months)]
        pieces = {"metric": "quantity", "value": "45", "product_group": "Telemetry"}
        rows += [{**row, **pieces} for row in _months("company", "", whole, months)]
    return rows


def _activity_targets(today: date) -> Rows:
    """So many phone calls and mails a week of each rep, from a year ago to half a year ahead."""
    monday, rows = today - timedelta(days=today.weekday()), []
    for week in range(-52, 27):
        first = monday + timedelta(weeks=week)
        span = {"starts_on": first.isoformat(), "ends_on": (first + timedelta(days=6)).isoformat()}
        for key, *_ in REPS:
            if _has_targets(key, today, span["starts_on"]):
                own = {"subject": "person", "subject_id": key, **span, "metric": "activities", "value": "3"}
                rows += [{**own, "activity_kind": kind} for kind in ("phone", "mail")]
    return rows


def _months(subject: str, key: str, value_minor: int, months: tuple[Period, ...]) -> Rows:
    parts = apportion(value_minor // 10_000, SEASON, [f"{n:02}" for n in range(12)])
    return [
        {
            "subject": subject,
            "subject_id": key,
            "metric": "won_amount",
            "starts_on": month.starts_on.isoformat(),
            "ends_on": month.ends_on.isoformat(),
            "value": f"{part * 100}.00",
        }
        for month, part in zip(months, parts, strict=True)
    ]
