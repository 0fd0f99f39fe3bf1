"""The register of figures: what each is called, counts and rests on, how it is worked out, and what none means.

Everything that offers, computes, words or explains a figure asks here; docs/measures.md is made from it.
"""

from functools import partial

from wise_tally.core.activity import BY as BY_PEOPLE
from wise_tally.core.attainment import AttainmentRow, lost_share, won_share
from wise_tally.core.errors import UnknownFigure
from wise_tally.core.figure import Family, Figure, Kind, OfRow, Part
from wise_tally.core.figures_of_outlook import OF_OUTLOOK
from wise_tally.core.figures_to_target import TO_TARGET
from wise_tally.core.money import ratio

BY_OWNER = "by current owner."
FORECAST, TARGETS, NUMBERS, RATES, TIME = "Forecast", "Targets", "Deal counts", "Rates and sizes", "Time"
OF_STAGES, CARE, WORK, CASH = "By stage", "Deal health", "Activities and leads", "Cash"
WON = Part("won", Kind.MONEY, lambda r: r.forecast.won)
DEALS_COUNTED = (Part("deals included", Kind.COUNT), Part("of these won", Kind.COUNT))
CLOSED = Part("÷ deals won or lost", Kind.COUNT, lambda r: r.forecast.deals_won + r.forecast.deals_lost)


def _closed(row: AttainmentRow) -> int:
    return row.forecast.deals_won + row.forecast.deals_lost


def _sum(key: str, term: str, definition: str, group: str = FORECAST, label: str = "") -> Figure:
    """A sum over deals of the period."""
    value: OfRow = lambda row: getattr(row.forecast, key)  # noqa: E731 - one line of the record
    return Figure(key, term, Kind.MONEY, definition, group=group, value=value, counts=key, in_grid=True, label=label)


def _number(key: str, term: str, definition: str, of: str, in_grid: bool = True) -> Figure:
    """A number of deals."""
    value: OfRow = lambda row: getattr(row.forecast, key)  # noqa: E731 - one line of the record
    return Figure(key, term, Kind.COUNT, definition, group=NUMBERS, value=value, counts=of, in_grid=in_grid)


def _size(of: str, term: str, definition: str) -> Figure:
    """The mean amount of the deals of a sum."""
    money: OfRow = lambda row: getattr(row.forecast, of)  # noqa: E731 - one line of the record
    words = {"won": "deals won", "open": "open deals"}[of]

    def number(row: AttainmentRow) -> int:
        return getattr(row.forecast, f"deals_{of}")  # type: ignore[no-any-return]

    return Figure(
        f"mean_{of}",
        term,
        Kind.MONEY,
        definition,
        group=RATES,
        value=lambda row: ratio(getattr(row.forecast, of), number(row)),
        counts=of,
        formula=(Part(of, Kind.MONEY, money), Part(f"÷ {words}", Kind.COUNT, number)),
        none=f"no {words}",
        sample=number,
    )


_OF_FORECAST = (
    _sum("won", "won", "Total amount of deals won in the period."),
    _sum("open", "open", "Total amount of open deals in the forecast with a close date in the period."),
    _sum(
        "weighted_open",
        "weighted pipeline",
        "Open deals in the forecast due in the period, each at amount × probability.",
    ),
    _sum("weighted", "weighted", "Won so far plus every open deal due in the period at amount × probability."),
    Figure(
        "seen",
        "weighted at actual win rates",
        Kind.MONEY,
        "Won plus open deals due in the period, each weighted by the actual win rate of its stage. The rate is that of the four "
        "quarters before. Stages with fewer than 20 closed deals keep the set probability.",
        Family.OBSERVED,
        counts="weighted",
        in_grid=True,
    ),
    _sum("commit_forecast", "commit forecast", "Won plus open deals in category “commit”.", label="won + commit"),
    _sum(
        "best_case_forecast",
        "best-case forecast",
        "Won plus open deals in “commit” and “best case”.",
        label="won + commit + best case",
    ),
    Figure(
        "call",
        "submitted forecast",
        Kind.MONEY,
        "The latest amount submitted for this person or team. If there is none, the total of the people below; "
        "people who have not submitted count with their weighted forecast.",
        value=lambda r: r.forecast.call,
        in_grid=True,
    ),
    Figure(
        "quota",
        "quota",
        Kind.MONEY,
        "The quota set here or, without one, the total of the teams and people below. It is split by days where a quota "
        "covers only part of the period.",
        group=TARGETS,
        value=lambda r: r.forecast.quota,
        of_quota=True,
        in_grid=True,
    ),
    Figure(
        "gap",
        "gap to quota",
        Kind.MONEY,
        "Quota minus won. A negative gap means the quota is exceeded.",
        group=TARGETS,
        value=lambda r: r.forecast.gap,
        counts="won",
        formula=(Part("quota", Kind.MONEY, lambda r: r.forecast.quota), Part("− won", Kind.MONEY, WON.value)),
        of_quota=True,
        in_grid=True,
    ),
    Figure(
        "attainment",
        "attainment",
        Kind.PERCENT,
        "Won ÷ quota. Open deals do not count.",
        group=TARGETS,
        value=lambda r: r.forecast.attainment,
        counts="won",
        formula=(WON, Part("÷ quota", Kind.MONEY, lambda r: r.forecast.quota)),
        none="the quota is 0",
        of_quota=True,
        in_grid=True,
    ),
    Figure(
        "coverage",
        "coverage",
        Kind.TIMES,
        "Open pipeline ÷ gap to quota. Not shown when the quota is reached.",
        group=TARGETS,
        value=lambda r: r.forecast.coverage,
        formula=(
            Part("open", Kind.MONEY, lambda r: r.forecast.open),
            Part("÷ gap", Kind.MONEY, lambda r: r.forecast.gap),
        ),
        none="quota reached",
        of_quota=True,
        in_grid=True,
    ),
    Figure(
        "pace",
        "pace",
        Kind.MONEY,
        "The part of the quota that should be reached by today.",
        group=TARGETS,
        value=lambda r: r.pace,
        of_quota=True,
        in_grid=True,
    ),
    Figure(
        "to_date",
        "attainment to date",
        Kind.PERCENT,
        "Won ÷ the part of the quota due by today (pace). Above 100 % means ahead of plan.",
        group=TARGETS,
        value=lambda r: r.to_date,
        counts="won",
        formula=(WON, Part("÷ pace", Kind.MONEY, lambda r: r.pace)),
        none="the quota is 0",
        of_quota=True,
        in_grid=True,
    ),
    _sum("lost", "lost", "Amounts of deals lost in the period."),
    _sum("overdue", "overdue", "Open deals of the period whose close date has passed."),
    _sum("overdue_before", "overdue from earlier periods", "Open deals that were due before the period started."),
    _sum("undated", "no close date", "Open deals without a close date. They are in no period’s forecast."),
    Figure(
        "chance",
        "chance of quota",
        Kind.PERCENT,
        "How likely it is that won and open deals together reach the quota. Each open deal is won or lost by its set "
        "probability, independently of the others.",
        Family.OBSERVED,
        of_quota=True,
    ),
    Figure(
        "chance_seen",
        "chance of quota at actual win rates",
        Kind.PERCENT,
        "How likely it is that won and open deals together reach the quota, at actual win rates. Each open deal is won or "
        "lost by the rate of its stage, independently of the others.",
        Family.OBSERVED,
        of_quota=True,
    ),
    _number("deals_won", "deals won", "Number of deals won in the period.", "won"),
    _number("deals_open", "open deals", "Number of open deals in the forecast due in the period.", "open"),
    _number("deals_lost", "deals lost", "Number of deals lost in the period, each once.", "lost", in_grid=False),
    Figure(
        "win_rate",
        "win rate of closed deals",
        Kind.PERCENT,
        "Deals won divided by deals won or lost in the period, by number.",
        group=RATES,
        value=lambda r: won_share(r.forecast),
        counts="won",
        formula=(Part("deals won", Kind.COUNT, lambda r: r.forecast.deals_won), CLOSED),
        none="no deals closed",
        sample=_closed,
    ),
    Figure(
        "lost_share",
        "lost of closed",
        Kind.PERCENT,
        "Deals lost ÷ all deals closed (won or lost) in the period.",
        group=RATES,
        value=lambda r: lost_share(r.forecast),
        counts="lost",
        formula=(Part("deals lost", Kind.COUNT, lambda r: r.forecast.deals_lost), CLOSED),
        none="no deals closed",
        sample=_closed,
    ),
    _size("won", "average deal size won", "Won divided by the number of deals won in the period."),
    _size("open", "average open deal", "Open amount due in the period divided by the number of these deals."),
)
_stage = partial(Figure, family=Family.STAGES, breakdowns=("stage",))
_cash = partial(Figure, kind=Kind.MONEY, family=Family.CASH, group=CASH, breakdowns=("company",))
_OF_REPORTS = (
    Figure(
        "created",
        "deals created",
        Kind.COUNT,
        f"Deals by creation date, {BY_OWNER}",
        Family.CREATED,
        NUMBERS,
        counts="created",
    ),
    Figure(
        "created_value",
        "value of new deals",
        Kind.MONEY,
        f"Amounts, as of the day, of deals created in the period, {BY_OWNER}",
        Family.CREATED,
        NUMBERS,
        counts="created_value",
    ),
    Figure(
        "won_of_created",
        "win rate of created deals",
        Kind.PERCENT,
        f"Of the deals created in the period those won by the as-of day, {BY_OWNER}",
        Family.CREATED,
        RATES,
        formula=DEALS_COUNTED,
        none="no deals created",
        counts="won_of_created",
    ),
    Figure(
        "average_discount",
        "average discount",
        Kind.PERCENT,
        "The share of the list value that discounts took off, for deals won in the period. List value is quantity × price; "
        + BY_OWNER,
        Family.LINES,
        RATES,
        formula=(Part("list value", Kind.MONEY), Part("discount", Kind.MONEY)),
        none="no products in won deals",
        counts="average_discount",
    ),
    Figure(
        "days_to_win",
        "median days to win",
        Kind.DAYS,
        "Days from creation to winning of deals won in the period, by the owner at closing (median).",
        Family.WINNING,
        TIME,
        counts="days_to_win",
    ),
    Figure(
        "mean_days_to_win",
        "average days to win",
        Kind.DAYS,
        "Days from creation to winning of deals won in the period, by the owner at the closing (average).",
        Family.WINNING,
        TIME,
        counts="mean_days_to_win",
    ),
    _stage(
        "stage_days",
        "median days in stage",
        Kind.DAYS,
        "Half of the deals that entered the stage in the period left it sooner, half later. Kaplan–Meier median: every way out "
        "is an event, deals still in the stage are censored.",
        group=TIME,
    ),
    _stage(
        "stage_open",
        "open, by stage",
        Kind.MONEY,
        "Amounts of open deals in their present stage, whatever their expected close.",
        group=OF_STAGES,
        counts="stage_open",
    ),
    _stage(
        "stage_deals",
        "open deals, by stage",
        Kind.COUNT,
        "Open deals in their present stage, whatever their expected close.",
        group=OF_STAGES,
        counts="stage_deals",
    ),
    _stage(
        "stage_overstaying",
        "stalled deals by stage",
        Kind.COUNT,
        "Open deals that are in their stage for longer than its typical days.",
        group=OF_STAGES,
    ),
    Figure(
        "slips",
        "slips",
        Kind.COUNT,
        f"How often an expected close moved later in the period, both dates while open, {BY_OWNER}",
        Family.CARE,
        CARE,
        counts="slips",
    ),
    Figure(
        "overstaying",
        "stalled deals",
        Kind.COUNT,
        f"Open deals beyond the typical days of their stage, {BY_OWNER}",
        Family.CARE,
        CARE,
        counts="overstaying",
    ),
    Figure(
        "activities",
        "completed activities",
        Kind.COUNT,
        "Activities done in the period by the people of this selection, a team’s by its members of the day.",
        Family.ACTIVITIES,
        WORK,
        breakdowns=BY_PEOPLE,
    ),
    Figure(
        "leads",
        "leads",
        Kind.COUNT,
        "Leads created in the period, by source.",
        Family.LEADS,
        WORK,
        breakdowns=("company", "source", "person"),
    ),
    _cash(
        "cash",
        "cash due",
        definition="Payments planned to fall due in the period, of won deals and of open deals in the forecast.",
    ),
    _cash(
        "cash_won", "cash due from won deals", definition="Payments planned to fall due in the period, of won deals."
    ),
    _cash(
        "cash_open",
        "cash due from open deals",
        definition="Payments planned to fall due in the period, of open deals in the forecast, each × its probability.",
    ),
)
REGISTER = {one.key: one for one in (*_OF_FORECAST, *OF_OUTLOOK, *_OF_REPORTS, *TO_TARGET)}
# What reports show, by group, and what stands in columns of the forecast.
REPORTED = {key: one for key, one in REGISTER.items() if one.group}
GROUPS = {
    group: [one for one in REPORTED.values() if one.group == group]
    for group in dict.fromkeys(f.group for f in REPORTED.values())
}
IN_GRID = {key: one for key, one in REGISTER.items() if one.in_grid}
_CATEGORY = "category:"


def category_figure(index: int, name: str) -> Figure:
    """The money of open deals in a forecast category."""
    return Figure(
        f"{_CATEGORY}{index}",
        f"open in {name}",
        Kind.MONEY,
        f"Amounts of open deals expected to close in the period in the forecast category “{name}”.",
        value=lambda row: row.forecast.categories[index],
        counts=f"{_CATEGORY}{index}",
        label=name,
    )


def figure_named(key: str, categories: tuple[str, ...] = ()) -> Figure:
    """The figure of a key; `category:N` is that of the Nth forecast category. Raises UnknownFigure."""
    if key.startswith(_CATEGORY) and key[len(_CATEGORY) :] in map(str, range(len(categories))):
        return category_figure(int(key[len(_CATEGORY) :]), categories[int(key[len(_CATEGORY) :])])
    if key not in REGISTER:
        raise UnknownFigure(f"“{key[:60]}” is not a figure. Choose one of: {', '.join(REGISTER)}.")
    return REGISTER[key]
