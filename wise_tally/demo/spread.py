"""Results and dates as in a real team: who won what, and open deals that are due, overdue or without a date."""

from collections import defaultdict
from collections.abc import Iterable
from datetime import date, timedelta
from typing import Any

from wise_tally.core.calendar import Period
from wise_tally.demo.firm import FISCAL, JOINED, LEFT, REPS, Rows

QUARTERS_BACK = 8
DECIDING, SMALL = "d9001", 45_000
# What a rep wins of a fair share: two far ahead, most somewhat below or above it, two behind; the newcomer has just begun.
FORM = {
    "r01": 0.85, "r02": 1.0, "r03": 1.5, "r04": 0.8, "r05": 0.75, "r06": 0.5, "r07": 0.9,
    "r08": 0.95, "r09": 1.05, "r10": 1.1, "r11": 0.9, "r12": 1.45, "r13": 0.5, "r14": 0.4,
}  # fmt: skip


def spread(today: date, revisions: Rows, shared: Iterable[str]) -> None:
    """Give the deals won in the last quarters to the reps by their form; deals with shared credit stay with whom they were.

    Largest first, each to the rep who lacks most of what the form says; a rep gets none from before joining or after leaving.
    """
    last = {row["deal_id"]: row for row in revisions}
    fixed, owners = set(shared), dict[str, str]()
    present = FISCAL.containing(today, "quarter")
    for step in range(-QUARTERS_BACK, 1):
        quarter = FISCAL.shifted(present, step)
        won = [row for row in last.values() if _won_in(row, quarter)]
        owners |= _handed(won, quarter, today, fixed)
    for row in revisions:
        if (owner := owners.get(row["deal_id"])) is not None:
            if row["changed_by"] == row["owner_id"]:
                row["changed_by"] = owner
            row["owner_id"] = owner


def _won_in(row: dict[str, Any], quarter: Period) -> bool:
    day = row["effective_at"][:10]
    return row["stage_id"].endswith("_won") and quarter.starts_on.isoformat() <= day <= quarter.ends_on.isoformat()


def _handed(won: Rows, quarter: Period, today: date, fixed: set[str]) -> dict[str, str]:
    """The new owner of each deal won in a quarter."""
    there = [key for key, *_ in REPS if _is_there(key, quarter, today)]
    size = {key: thousands * FORM[key] for key, _, _, thousands in REPS if key in there}
    whole, all_sizes = sum(float(row["amount"]) for row in won), sum(size.values())
    wanted = {key: whole * one / all_sizes for key, one in size.items()}
    has: defaultdict[str, float] = defaultdict(float)
    owners = {}
    for row in sorted(won, key=lambda one: (-float(one["amount"]), one["deal_id"])):
        owner = row["owner_id"]
        if row["deal_id"] not in fixed:
            owner = max(there, key=lambda key: (wanted[key] - has[key], key))
            owners[row["deal_id"]] = owner
        has[owner] += float(row["amount"])
    return owners


def _is_there(key: str, quarter: Period, today: date) -> bool:
    """Whether a rep sold in a quarter: the leaver until half a year ago, the newcomer in the present one."""
    if key == LEFT:
        return (today - quarter.ends_on).days > 182
    return key != JOINED or quarter.starts_on <= today <= quarter.ends_on


# Of each process the stage that some deals go over, the one that they stay in instead, and the one that they enter next.
GONE_OVER = (("ns_survey", "ns_enquiry", "ns_plan"), ("re_offer", "re_review", "re_terms"))
ONE_IN = 14


def with_skipped_stages(revisions: Rows) -> Rows:
    """The revisions, of every so many deals without a stage in the middle: it is gone over."""
    gone = {row["deal_id"] for row in revisions if int(row["deal_id"][1:]) % ONE_IN == 0} - {DECIDING}
    later = {(row["deal_id"], row["stage_id"]) for row in revisions}
    left: Rows = []
    for row in revisions:
        stages = [
            instead
            for over, instead, following in GONE_OVER
            if row["stage_id"] == over and row["deal_id"] in gone and (row["deal_id"], following) in later
        ]
        changed = {**row, "stage_id": stages[0]} if stages else row
        before = left[-1] if left else {}
        if any(changed[name] != before.get(name) for name in changed if name != "effective_at"):
            left.append(changed)
    return left


# Open deals that are due in this week, those whose close is past, those without one: how many, and from which stages.
IN_HAND = (("due", 3, ("ns_terms", "re_terms")), ("past", 2, ("ns_survey", "re_review")), ("none", 2, ("ns_enquiry",)))


def dated_as_in_life(today: date, revisions: Rows) -> None:
    """Some open deals due this week as it began, some overdue, some without a close date: as there are on any day."""
    monday = today - timedelta(days=today.weekday())
    days = {"due": monday + timedelta(days=4), "past": today - timedelta(days=9), "none": None}
    last = {row["deal_id"]: row for row in revisions}
    chosen: dict[str, str] = {}
    for kind, number, stages in IN_HAND:
        undecided = [key for key, row in sorted(last.items()) if row["stage_id"] in stages and key != DECIDING]
        for key in [key for key in undecided if float(last[key]["amount"]) < SMALL][:number]:
            on = days[kind]
            chosen[key] = on.isoformat() if on else ""
    for row in revisions:
        if row["deal_id"] in chosen:
            row["expected_close"] = chosen[row["deal_id"]]
