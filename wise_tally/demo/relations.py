"""Whom the demo firm talks to: contacts, leads, activities, notes, next steps. All invented."""

from datetime import UTC, date, datetime, time, timedelta
from random import Random
from typing import Any

from wise_tally.demo.firm import REPS, SOURCES, Rows

FIRST = ("Ada", "Bryn", "Cara", "Dara", "Eoin", "Fay", "Glen", "Hedy", "Idris", "Jory", "Keir", "Lorna", "Maud", "Nye")
LAST = (
    "Ashby",
    "Brook",
    "Cairn",
    "Dunmore",
    "Eddy",
    "Fallow",
    "Garth",
    "Hythe",
    "Ings",
    "Keld",
    "Leat",
    "Marsh",
    "Ness",
)
JOBS = ("Operations manager", "Hydrologist", "Buyer", "Director", "Field technician", "Harbour master")
ROLES = ("Decision maker", "User", "Budget holder", "Adviser", "Opponent")
RIVALS = ("Fenwater Instruments", "Ostler & Vane", "Blackmere Metering")
DROPPED = ("Not reached", "No need", "Too small", "Wrong person")
KINDS = ("phone", "phone", "mail", "mail", "meeting", "site_visit")
SUBJECTS = {
    "phone": "Asked about {}",
    "mail": "Sent papers for {}",
    "meeting": "Met about {}",
    "site_visit": "Walked the site of {}",
}
LEADS = 700
# Who rarely writes down a talk with a customer, and for how many days nobody was heard of there.
SILENT, SILENT_DAYS = "r05", 75


ACCESS = ("Road", "Track", "Boat")
SITE_ACCESS = {
    "field_id": "site_access",
    "applies_to": "deal",
    "name": "Site access",
    "kind": "choice",
    "choices": ";".join(ACCESS),
}


def site_access(random: Random, deals: Rows) -> Rows:
    """How the site of a new one is reached: the firm's own field, filled for most."""
    new = [deal["deal_id"] for deal in deals if deal["process_id"] == "new_site" and random.random() < 0.85]
    return [{"field_id": "site_access", "subject_id": key, "value": random.choice(ACCESS)} for key in new]


def contacts(random: Random, accounts: Rows) -> Rows:
    """One to three people at every customer's."""
    rows: Rows = []
    for account in accounts:
        for _ in range(random.choice((1, 2, 2, 3))):
            number = len(rows) + 1
            row = {"contact_id": f"c{number:04}", "account_id": account["account_id"]}
            row |= {"name": f"{random.choice(FIRST)} {random.choice(LAST)}", "job_title": random.choice(JOBS)}
            rows.append(row | {"email": f"c{number:04}@customer.example", "phone": f"+353 1 555 {number:04}"})
    return rows


def roles(random: Random, deals: Rows, people: Rows) -> Rows:
    """A contact for most deals and what people do in the younger ones; deals get their contact."""
    of_account: dict[str, list[str]] = {}
    for person in people:
        of_account.setdefault(person["account_id"], []).append(person["contact_id"])
    rows: Rows = []
    for deal in deals:
        known = of_account[deal["account_id"]]
        if random.random() < 0.8:
            deal["contact_id"] = random.choice(known)
        if random.random() < 0.3:
            rows += [
                {"deal_id": deal["deal_id"], "contact_id": contact, "role": random.choice(ROLES)} for contact in known
            ]
    return rows


def details(random: Random, today: date, deals: Rows, state: dict[str, dict[str, Any]], from_lines: set[str]) -> Rows:
    """Days of next steps, rivals, and which amounts follow the lines."""
    rows: Rows = []
    for deal in deals:
        is_open = not state[deal["deal_id"]]["stage_id"].endswith(("_won", "_lost"))
        row: dict[str, Any] = {"deal_id": deal["deal_id"]}
        if is_open and deal["next_step"] and random.random() < 0.75:
            row["next_step_on"] = (today + timedelta(days=random.randint(-6, 20))).isoformat()
        if random.random() < 0.25:
            row["competitor"] = random.choice(RIVALS)
        if deal["deal_id"] in from_lines:
            row["amount_from_lines"] = "true"
        if len(row) > 1:
            rows.append(row)
    return rows


LEAD_STEPS = [
    {"lead_step_id": "new", "name": "New", "position": 1, "typical_days": 2},
    {"lead_step_id": "tried", "name": "Tried", "position": 2, "typical_days": 6},
    {"lead_step_id": "reached", "name": "Reached", "position": 3, "typical_days": 10},
    {"lead_step_id": "meeting", "name": "Meeting agreed", "position": 4, "typical_days": 14},
]
CAMPAIGNS = ("", "", "", "Spring floods", "Gauge day")


def leads(random: Random, today: date, deals: Rows, state: dict[str, dict[str, Any]]) -> tuple[Rows, Rows]:
    """Leads of three years: a deal came of some, others were dropped, the young ones are new or being worked on."""
    young = [deal for deal in deals if deal["process_id"] == "new_site"]
    taken = iter(random.sample(young, len(young)))
    reps = [key for key, *_ in REPS if key != "r11"]
    now = datetime.combine(today, time(7), UTC)
    rows, more = [], []
    for number in range(1, LEADS + 1):
        row: dict[str, Any] = {"lead_id": f"l{number:04}", "name": f"{random.choice(FIRST)} {random.choice(LAST)}"}
        customer = ""
        if number <= 300:
            deal = next(taken)
            closed = datetime.fromisoformat(deal["created_at"])
            created = closed - timedelta(days=random.uniform(1, 25))
            row |= {"status": "qualified", "deal_id": deal["deal_id"], "source": deal["source"]}
            row |= {"owner_id": state[deal["deal_id"]]["owner_id"], "closed_at": _text(closed)}
        elif number <= 620:
            created = now - timedelta(days=random.uniform(30, 1090))
            closed = created + timedelta(days=random.uniform(2, 29))
            row |= {"status": "dropped", "source": random.choices(SOURCES, (15, 35, 20, 25, 5))[0]}
            row |= {"owner_id": random.choice(reps), "closed_at": _text(closed)}
        else:
            created = now - timedelta(days=random.uniform(0.1, 26))
            row |= {"status": "new" if number % 2 else "working", "source": random.choice(SOURCES)}
            row["owner_id"] = random.choice(reps)
            customer = random.choice(("Ister", "Ludd", "Orrin", "Quern")) + random.choice((" Weir", " Lock", " Basin"))
        row["created_at"] = _text(created)
        rows.append(row)
        because = random.choice(DROPPED) if row["status"] == "dropped" else ""
        more.append({"lead_id": row["lead_id"], "customer": customer, "email": f"l{number:04}@lead.example",
                     "phone": f"+353 1 556 {number:04}" if number % 4 else "", "dropped_because": because})  # fmt: skip
    return rows, more


def lead_moves(random: Random, today: date, leads: Rows, more: Rows) -> Rows:
    """The steps that leads took, which their details keep, too; score and campaign with them."""
    now = datetime.combine(today, time(7), UTC)
    moves: Rows = []
    steps = [row["lead_step_id"] for row in LEAD_STEPS]
    for lead, details in zip(leads, more, strict=True):
        begun = datetime.fromisoformat(lead["created_at"])
        until = datetime.fromisoformat(lead.get("closed_at") or now.isoformat())
        weights = {"qualified": (0, 0, 0, 1), "new": (1, 0, 0, 0), "working": (0, 5, 3, 2), "dropped": (2, 5, 2, 1)}
        furthest = random.choices((1, 2, 3, 4), weights[lead["status"]])[0]
        times = sorted(begun + (until - begun) * random.random() for _ in range(furthest - 1))
        moves += [
            {"lead_id": lead["lead_id"], "step_id": step, "at": _text(moment), "by": lead["owner_id"]}
            for step, moment in zip(steps, [begun, *times], strict=False)
        ]
        details |= {
            "step_id": steps[furthest - 1],
            "campaign": random.choice(CAMPAIGNS),
            "score": random.randint(5, 95),
        }
    return moves


def activities(random: Random, today: date, deals: Rows, revisions: Rows, accounts: Rows) -> Rows:
    """What was done around the changes of deals, web visits, and what is planned for the coming days."""
    by_key = {deal["deal_id"]: deal for deal in deals}
    silent_from = datetime.combine(today - timedelta(days=SILENT_DAYS), time(0), UTC)
    now = datetime.combine(today, time(7), UTC)
    rows: Rows = []
    last: dict[str, dict[str, Any]] = {}
    for revision in revisions:
        last[revision["deal_id"]] = revision
        moment = datetime.fromisoformat(revision["effective_at"]) - timedelta(hours=random.randint(1, 40))
        if random.random() > 0.71 or (revision["owner_id"] == SILENT and moment > silent_from):
            continue
        deal, kind = by_key[revision["deal_id"]], random.choice(KINDS)
        row = {"kind": kind, "at": _text(moment), "person_id": revision["owner_id"], "deal_id": deal["deal_id"]}
        rows.append(row | {"account_id": deal["account_id"], "subject": SUBJECTS[kind].format(deal["name"])[:120]})
    for _ in range(1_500):
        moment = now - timedelta(days=random.uniform(0, 1090))
        account = random.choice(accounts)["account_id"]
        rows.append({"kind": "web_visit", "at": _text(moment), "account_id": account, "subject": "Read the price list"})
    for key, state in last.items():
        if state["stage_id"].endswith(("_won", "_lost")) or random.random() > 0.35:
            continue
        deal, kind = by_key[key], random.choice((*KINDS, "task"))
        moment = now + timedelta(days=random.randint(-2, 12), hours=random.randint(1, 9))
        row = {"kind": kind, "at": _text(moment), "status": "planned", "person_id": state["owner_id"], "deal_id": key}
        rows.append(row | {"account_id": deal["account_id"], "subject": deal["next_step"] or "Ask how it stands"})
    for number, row in enumerate(rows, 1):
        row["activity_id"] = f"v{number:05}"
    return rows


def notes(random: Random, today: date, deals: Rows, state: dict[str, dict[str, Any]]) -> Rows:
    """What people wrote down about open deals, and about the customer of the deciding one."""
    words = ("Budget year ends in March.", "The board wants two references.", "Access only over the neighbour's land.",
             "Power on site is weak; think of sun.", "They ask for alarms by night.")  # fmt: skip
    chosen = [d for d in deals if not state[d["deal_id"]]["stage_id"].endswith(("_won", "_lost"))]
    rows: Rows = []
    for deal in random.sample(chosen, min(90, len(chosen))):
        moment = datetime.combine(today, time(7), UTC) - timedelta(days=random.uniform(1, 60))
        row = {"note_id": f"n{len(rows) + 1:04}", "at": _text(max(moment, datetime.fromisoformat(deal["created_at"])))}
        rows.append(
            row
            | {
                "person_id": state[deal["deal_id"]]["owner_id"],
                "deal_id": deal["deal_id"],
                "text": random.choice(words),
            }
        )
    moment = datetime.combine(today - timedelta(days=12), time(9), UTC)
    rows.append({"note_id": "n9001", "at": _text(moment), "person_id": "r08", "account_id": "ac001",
                 "text": "Says the invoices wait for a signature; buys less until the barrage is decided."})  # fmt: skip
    return rows


def _text(moment: datetime) -> str:
    return moment.replace(microsecond=0).isoformat(timespec="seconds")
