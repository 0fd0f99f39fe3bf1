"""What the demo firm's reps called in past quarters and this one, and where a manager said otherwise. All invented."""

from datetime import date, timedelta
from random import Random
from typing import Any

from wise_tally.core.calendar import FiscalCalendar, Period
from wise_tally.demo.firm import CALLS_EVERYTHING_COMMIT, JOINED, LEFT, REPS, Rows

FISCAL = FiscalCalendar(4)
QUARTERS_BACK = 8
WEEKS_OF_CALLS = (3, 7, 11)
# Who has not called this quarter yet.
STILL_TO_CALL = ("r01", "r02", "r03")


def calls(random: Random, today: date, state: dict[str, dict[str, Any]]) -> Rows:
    """Three calls a rep and quarter, closer each time to what was won; one rep calls far too much every time."""
    present = FISCAL.containing(today, "quarter")
    rows: Rows = []
    for step in range(-QUARTERS_BACK, 1):
        quarter = FISCAL.shifted(present, step)
        for key, *_ in REPS:
            if key in (LEFT, JOINED) or (step == 0 and key in STILL_TO_CALL):
                continue
            rows += _of_quarter(random, today, key, quarter, _in_reach(state, key, quarter))
    lowered = [row for row in rows if row["subject_id"] == CALLS_EVERYTHING_COMMIT and _is_of(row, present)]
    if lowered:
        values = {"made_by": "m3", "amount": f"{float(lowered[-1]['amount']) * 0.6:.2f}"}
        reason = "Two of these sites have no survey yet"
        rows.append(lowered[-1] | values | {"made_at": _at(today - timedelta(days=1)), "reason": reason})
    return rows


def _is_of(row: dict[str, Any], quarter: Period) -> bool:
    return bool(row["starts_on"] == quarter.starts_on.isoformat())


def _in_reach(state: dict[str, dict[str, Any]], person: str, quarter: Period) -> float:
    """What a rep won in the quarter, or may still win in it, as the last revisions say."""
    total = 0.0
    for row in state.values():
        won = row["stage_id"].endswith("_won")
        if row["owner_id"] != person or row["stage_id"].endswith("_lost"):
            continue
        day = row["effective_at"][:10] if won else row["expected_close"]
        if day and quarter.starts_on.isoformat() <= day <= quarter.ends_on.isoformat():
            total += float(row["amount"]) * (1 if won else 0.6)
    return total


def _of_quarter(random: Random, today: date, person: str, quarter: Period, reach: float) -> Rows:
    rows: Rows = []
    for index, week in enumerate(WEEKS_OF_CALLS):
        on = quarter.starts_on + timedelta(weeks=week, days=random.randrange(4))
        if on >= today:
            break
        doubt = 0.5 / (index + 1)
        size = 1 + random.uniform(-doubt, doubt)
        size *= 1.7 - 0.15 * index if person == CALLS_EVERYTHING_COMMIT else 1
        rows.append(
            {
                "subject": "person",
                "subject_id": person,
                "starts_on": quarter.starts_on.isoformat(),
                "ends_on": quarter.ends_on.isoformat(),
                "made_at": _at(on),
                "made_by": person,
                "amount": f"{round(reach * size / 500) * 500}.00",
            }
        )
    return rows


def _at(day: date) -> str:
    return f"{day.isoformat()}T09:30:00+00:00"
