"""How the demo firm meets: one-to-ones with what was agreed, a dashboard for Mondays, rates and intervals. All invented."""

from datetime import date, timedelta
from typing import Any


def _monday(today: date, weeks_ago: int) -> str:
    return (today - timedelta(days=today.weekday() + 7 * weeks_ago)).isoformat()


# Who meets whom: a manager, a rep, what was noted last, what was agreed and is still to do.
ONE_TO_ONES = (
    (
        "m3",
        "r08",
        "Two sites wait for a survey date. Quota is in reach if the port signs.",
        "Get the survey dates in writing",
    ),
    ("m3", "r05", "Too many plans lie too long.", "Ring every customer whose plan is older than five weeks"),
    ("m2", "r01", "Steady. Wants more renewals.", "Go through the renewals of next quarter together"),
    (
        "m2",
        "r02",
        "The split deal is closed; the next one needs a sponsor.",
        "Find out who decides at the dam operators",
    ),
)


def one_to_ones(today: date) -> list[dict[str, Any]]:
    """One-to-ones of the last weeks, with their notes."""
    return [
        {"by": by, "person_key": person, "held_on": _monday(today, week), "notes": notes if week == 1 else ""}
        for by, person, notes, _ in ONE_TO_ONES
        for week in (3, 2, 1)
    ]


def agreed(today: date) -> list[dict[str, Any]]:
    """What was agreed at the last one-to-ones; one is overdue, one is done."""
    rows: list[dict[str, Any]] = []
    for index, (by, person, _, text) in enumerate(ONE_TO_ONES):
        due = (today + timedelta(days=3 * index - 3)).isoformat()
        done = (today - timedelta(days=1)).isoformat() if person == "r02" else None
        values = {
            "id": f"agreed_{person}",
            "person_key": person,
            "by": by,
            "agreed_on": _monday(today, 1),
            "text": text,
        }
        rows.append({**values, "due_on": due, "done_on": done})
    return rows


def workspace(today: date) -> dict[str, Any]:
    """Meetings, actions, rates above quota, contact intervals, a tally and a dashboard."""
    return {
        "meetings": [
            {"by": "m1", "person_key": "", "held_on": _monday(today, week), "notes": ""} for week in range(1, 10)
        ]
        + one_to_ones(today),
        "agreed_actions": agreed(today),
        "rates_above_quota": [
            {"person": key, "from_on": (today - timedelta(days=500)).isoformat(), "rate_bp": 400}
            for key in ("r01", "r02", "r08")
        ],
        "contact_intervals": [
            {"subject": "industry", "subject_key": "ports", "days": 10},
            {"subject": "process", "subject_key": "renewal", "days": 21},
        ],
        "tallies": [
            {
                "id": "big_renewals",
                "name": "Open renewals, by person",
                "owner": "m1",
                "shared": True,
                "query": "show=open&by=person&process=renewal",
            },
        ],
        "dashboards": [
            {"id": "monday", "name": "Monday", "owner": "m1", "audience": "all", "starts": False},
        ],
        "tiles": [
            {"dashboard": "monday", "place": index, "tally": tally, "wide": index == 0}
            for index, tally in enumerate(("this-week", "big_renewals", "slips-by-person"))
        ],
    }
