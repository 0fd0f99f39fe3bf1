"""What a manager and a rep should talk about: kinds of open deals that need a word, the most money first."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.deal_list import overdue, overstaying
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import OPEN


@dataclass(frozen=True)
class TalkingPoint:
    """Deals of one kind: places among those asked about, the largest first, and what they come to in minor units."""

    kind: str
    places: Ints
    amount_minor: int


@dataclass(frozen=True)
class OpenDeals:
    """A person's open deals, shapes (n,): rows of the snapshot, credited amounts in minor units, contact intervals missed,
    whether a next step is set.
    """

    rows: Ints
    amount_minor: Ints
    missed: Ints
    has_next: Flags


def talking_points(
    book: Book, snapshot: BookAsOf, earlier: BookAsOf, period: Period, deals: OpenDeals
) -> tuple[TalkingPoint, ...]:
    """Overdue, stalled, not contacted, moved out of the period since an earlier day, without a next step.

    A kind without deals has no point; a deal may stand in several. Source: own choice of what practice asks about.
    """
    kinds = {
        "overdue": overdue(snapshot, deals.rows),
        "stalled": overstaying(book, snapshot, deals.rows),
        "contact": deals.missed > 0,
        "moved_out": moved_out(snapshot, earlier, period, deals.rows),
        "no_next_step": ~deals.has_next,
    }
    order = np.argsort(-deals.amount_minor, kind="stable")
    points = [
        TalkingPoint(kind, order[keep[order]], int(deals.amount_minor[keep].sum()))
        for kind, keep in kinds.items()
        if keep.any()
    ]
    return tuple(sorted(points, key=lambda point: -point.amount_minor))


def moved_out(snapshot: BookAsOf, earlier: BookAsOf, period: Period, rows: Ints) -> Flags:
    """Which open deals were due in the period on an earlier day and are now expected after it, shape of `rows`."""
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    index = np.searchsorted(earlier.deal, snapshot.deal[rows])
    known = np.append(earlier.deal, -1)[index] == snapshot.deal[rows]
    index = np.where(known, index, 0)
    if not len(earlier.deal):
        return np.zeros(len(rows), dtype=bool)
    before, now = earlier.expected_close[index], snapshot.expected_close[rows]
    was_due = known & (earlier.kind[index] == OPEN) & (before >= first) & (before <= last)
    return np.asarray(was_due & (now != NO_DAY) & (now > last))
