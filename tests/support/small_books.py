"""Small books put together from records, without a database: one process of two open stages, won and lost."""

from datetime import UTC, date, datetime, timedelta

import numpy as np

from wise_tally.core.book import Book, Credits, Deals, Revisions
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.reference_data import (
    ALWAYS,
    LOST,
    OPEN,
    WON,
    Category,
    Node,
    Person,
    ReferenceData,
    Stage,
    StageRule,
)
from wise_tally.core.trees import NONE

FIRST, SECOND, IS_WON, IS_LOST = range(4)
KINDS = (OPEN, OPEN, WON, LOST)


def moment(day, hour=12):
    """A moment of a day in UTC."""
    return int(datetime(day.year, day.month, day.day, hour, tzinfo=UTC).timestamp())


def reference(people=("ann",), teams=(), probability_bp=(5_000, 5_000), typical_days=(None, None)):
    """One process; people as keys, or as (key, index of a team); teams as keys, none below another."""
    stages = tuple(
        Stage(f"s{index}", f"Stage {index}", 0, index, kind, False, False,
              StageRule(ALWAYS, (*probability_bp, 10_000, 0)[index], 0, (*typical_days, None, None)[index]))
        for index, kind in enumerate(KINDS)
    )  # fmt: skip
    named = [(one, NONE) if isinstance(one, str) else one for one in people]
    members = tuple(Person(key, key.title(), ((0, team),)) for key, team in named)
    nodes = tuple(Node(key, key.title(), ((0, NONE),)) for key in teams)
    category = Category("commit", "Commit", 1, True)
    return ReferenceData("Firm", "UTC", FiscalCalendar(1), (category,), (("p", "Process"),), stages, nodes, (), members)


def book_of(histories, ground=None):
    """A book of deals: of each its states as (day, stage, amount in minor units, expected close), the owner after them if not 0."""
    rows, created = [], []
    for deal, given in enumerate(histories):
        owner = given[-1] if isinstance(given[-1], int) else 0
        states = [state for state in given if not isinstance(state, int)]
        created.append(moment(states[0][0], 0))
        for day, stage, amount, close in states:
            rows.append(
                (deal, moment(day, 0), stage, amount, close.toordinal() if close else 0, owner, NONE, NONE, NONE)
            )
    count, none = len(created), np.full(len(created), NONE)
    deals = Deals(tuple(f"d{n}" for n in range(count)), np.zeros(count, dtype=np.int64), np.array(created), none, none,
                  np.zeros(count, dtype=bool), none)  # fmt: skip
    columns = np.array(rows, dtype=np.int64).reshape(-1, 9).T
    nothing = np.zeros(0, dtype=np.int64)
    return Book(ground or reference(), deals, Revisions(*columns), Credits(nothing, nothing, nothing, nothing))


def day(text):
    """A date."""
    return date.fromisoformat(text)


def decided_deals(count, on, won=5):
    """Histories of deals that came into the first stage on a day and were closed the day after, the first few won."""
    closed = on + timedelta(days=1)
    return [[(on, FIRST, 100, None), (closed, IS_WON if n < won else IS_LOST, 100, None)] for n in range(count)]
