"""The invented deals: each walks through its process until it is decided or today comes."""

from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from random import Random
from typing import Any

from wise_tally.demo.firm import (
    CALLS_EVERYTHING_COMMIT,
    FISCAL,
    JOINED,
    LEFT,
    OVERSTAYS_IN_PLAN,
    REPS,
    SOURCES,
    STAGES,
    Rows,
)

DEALS = 1_800
# Chance to pass each open stage and the median days spent there.
PASSING = {
    "new_site": ((0.52, 10), (0.64, 17), (0.92, 30), (0.51, 19), (0.80, 12)),
    "renewal": ((0.78, 17), (0.76, 17), (0.90, 8)),
}
REASONS = ("No budget", "Timing", "Price", "Went elsewhere", "Project stopped")
NEXT_STEPS = ("Board meets", "Send revised plan", "Visit the weir", "Agree access", "Check power supply", "")
# What deals of a process are about, as many in each.
THINGS = {
    "new_site": (
        "River gauge",
        "Buoy line",
        "Telemetry",
        "Weir station",
        "Reservoir buoy",
        "Tide gauges",
        "Nine gauges",
    ),
    "renewal": (
        "Station renewal",
        "More buoys",
        "Telemetry renewal",
        "Calibration visits",
        "Mooring renewal",
        "Sensor exchange",
        "Alarm extension",
    ),
}


@dataclass
class Walk:
    """One deal on its way: its rows so far and its present state."""

    deal: dict[str, Any]
    state: dict[str, Any]
    now: datetime
    rows: Rows = field(default_factory=list)

    def write(self, moment: datetime, **changes: Any) -> None:
        """A revision at `moment`, unless today came first."""
        self.state |= {"reason": ""} | changes
        if moment <= self.now:
            values = {
                "deal_id": self.deal["deal_id"],
                "effective_at": _text(moment),
                "changed_by": self.state["owner_id"],
            }
            self.rows.append({**self.state, **values})


def _text(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds")


def deals(random: Random, today: date, accounts: Rows) -> tuple[Rows, Rows, Rows]:
    """Deals, revisions and credit shares of the last three years."""
    now = datetime.combine(today, time(7), UTC)
    all_deals, revisions, credits = [], [], []
    for number in range(1, DEALS + 1):
        walk = _start(random, number, now, random.choice(accounts))
        _go(random, walk)
        all_deals.append(walk.deal)
        revisions += walk.rows
        if random.random() < 0.025:
            other = random.choice([key for key, *_ in REPS if key not in (walk.state["owner_id"], LEFT, JOINED)])
            credits += [
                {"deal_id": walk.deal["deal_id"], "person_id": walk.state["owner_id"], "share": 70},
                {"deal_id": walk.deal["deal_id"], "person_id": other, "share": 30},
            ]
    big = _deciding_deal(now, accounts[0])
    return [*all_deals, big.deal], [*revisions, *big.rows], credits


def _start(random: Random, number: int, now: datetime, account: dict[str, Any]) -> Walk:
    days_ago = random.uniform(0.2, 1095) if random.random() < 0.97 else random.uniform(0.2, 60)
    created = (now - timedelta(days=days_ago)).replace(microsecond=0)
    process = "new_site" if random.random() < 0.7 else "renewal"
    owner = account["owner_id"]
    if owner == LEFT and days_ago < 200:
        owner = "r10"
    if account["territory_id"] in ("east_coast", "west_coast") and days_ago < 40 and random.random() < 0.4:
        owner = JOINED
    median = 34_000 if process == "new_site" else 15_000
    amount = max(900, round(random.lognormvariate(0, 0.75) * median / 50) * 50)
    deal = {
        "deal_id": f"d{number:04}",
        "name": f"{random.choice(THINGS[process])}, {account['name']}",
        "process_id": process,
        "created_at": _text(created),
        "account_id": account["account_id"],
        "deal_type": "new business" if process == "new_site" else "existing customer",
        "source": random.choices(SOURCES, (30, 25, 15, 20, 10))[0],
        "next_step": random.choice(NEXT_STEPS),
    }
    close = (created + timedelta(days=random.randint(55, 140))).date()
    state = {"amount": f"{amount}.00", "owner_id": owner, "territory_id": account["territory_id"], "category_id": ""}
    if random.random() < 0.04:
        state["territory_id"] = ""
    if owner == CALLS_EVERYTHING_COMMIT:
        state["category_id"] = "commit"
    state["expected_close"] = "" if random.random() < 0.015 else close.isoformat()
    return Walk(deal, state, now)


def _go(random: Random, walk: Walk) -> None:
    moment = datetime.fromisoformat(walk.deal["created_at"])
    process = walk.deal["process_id"]
    stages = [entry[0] for entry in STAGES[process]]
    boost = 1.3 if walk.deal["source"] == "Referral" and walk.state["territory_id"] == "upper_vale" else 1.0
    for index, (chance, median) in enumerate(PASSING[process]):
        walk.write(moment, stage_id=stages[index])
        stay = random.lognormvariate(0, 0.6) * median
        if stages[index] == "ns_plan" and walk.state["owner_id"] == OVERSTAYS_IN_PLAN:
            stay *= 2.7
        end = moment + timedelta(days=stay)
        _small_changes(random, walk, moment, end)
        moment = end
        season = 1.06 if moment.month in (1, 2, 3) else 0.98
        if random.random() > min(0.97, chance * boost * season):
            walk.write(moment, stage_id=stages[-1], lost_reason=random.choice(REASONS), category_id="")
            return
        if random.random() < 0.05 and index:
            walk.write(moment, stage_id=stages[index - 1])
            moment += timedelta(days=random.uniform(2, 9))
    walk.write(moment, stage_id=stages[-2], category_id="")


def _small_changes(random: Random, walk: Walk, start: datetime, end: datetime) -> None:
    """Amounts that firm up, closes that slip, categories that somebody overrides."""
    for share in sorted(random.random() for _ in range(random.choice((1, 1, 2, 2, 3, 4)))):
        moment = (start + (end - start) * share).replace(microsecond=0)
        kind = random.random()
        if kind < 0.45 and walk.state["expected_close"]:
            close = date.fromisoformat(walk.state["expected_close"])
            late = max(close, moment.date()) + timedelta(days=random.randint(5, 34))
            walk.write(moment, expected_close=late.isoformat())
        elif kind < 0.85:
            amount = max(500, round(float(walk.state["amount"]) * random.uniform(0.85, 1.2) / 50) * 50)
            walk.write(moment, amount=f"{amount}.00")
        elif walk.state["owner_id"] != CALLS_EVERYTHING_COMMIT:
            walk.write(moment, category_id=random.choice(("commit", "best_case", "early", "left_out", "", "")))


def _deciding_deal(now: datetime, account: dict[str, Any]) -> Walk:
    """One large deal due this quarter that decides whether the quota is reached."""
    quarter = FISCAL.containing(now.date(), "quarter")
    close = max(now.date() + timedelta(days=5), quarter.ends_on - timedelta(days=9))
    deal = {
        "deal_id": "d9001",
        "name": f"Barrage network, {account['name']}",
        "process_id": "new_site",
        "created_at": _text(now - timedelta(days=96)),
        "account_id": account["account_id"],
        "deal_type": "new business",
        "source": "Tender portal",
        "next_step": "Board meets",
    }
    state = {"amount": "310000.00", "owner_id": "r08", "territory_id": account["territory_id"], "category_id": ""}
    walk = Walk(deal, {**state, "expected_close": min(close, quarter.ends_on).isoformat()}, now)
    for days_ago, stage in ((96, "ns_enquiry"), (88, "ns_survey"), (70, "ns_plan"), (38, "ns_offer")):
        walk.write(now - timedelta(days=days_ago), stage_id=stage)
    walk.write(now - timedelta(days=9), amount="420000.00", reason="four stations more")
    walk.write(now - timedelta(days=3), stage_id="ns_terms")
    return walk
