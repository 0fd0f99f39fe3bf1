"""Buckets of a forecast: every deal of a scope stands in exactly one, and every figure is a sum over buckets."""

from dataclasses import dataclass
from functools import cache

import numpy as np

from wise_tally.core.book import BookAsOf
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import OPEN, WON

WON_IN_PERIOD, WON_OTHER_PERIOD, LOST_IN_PERIOD, LOST_OTHER_PERIOD, FIRST_OPEN = range(5)
DUE, OVERDUE, DUE_BEFORE, OTHER_PERIOD, UNDATED = range(5)
TIMINGS = 5
FIGURES = (
    "won",
    "lost",
    "open",
    "weighted_open",
    "weighted",
    "commit_forecast",
    "best_case_forecast",
    "overdue",
    "overdue_before",
    "undated",
)


@dataclass(frozen=True)
class Buckets:
    """The numbering of buckets: won and lost in or outside the period, then category × timing of open deals."""

    categories: int
    counted: tuple[int, ...]

    @property
    def size(self) -> int:
        """Number of buckets."""
        return FIRST_OPEN + self.categories * TIMINGS

    def open(self, categories: tuple[int, ...], timings: tuple[int, ...]) -> tuple[int, ...]:
        """Buckets of open deals of the given categories and timings."""
        return tuple(FIRST_OPEN + category * TIMINGS + timing for category in categories for timing in timings)

    @property
    def names(self) -> tuple[str, ...]:
        """All figures of money: FIGURES, then one a category."""
        return (*FIGURES, *(f"category:{category}" for category in range(self.categories)))

    @cache  # noqa: B019 - a numbering is a small value of which a process meets a handful
    def of(self, figure: str) -> tuple[int, ...]:
        """Buckets a figure adds up; `category:N` is the money of category N. `counted` lists the surest first."""
        in_period = (DUE, OVERDUE)
        if figure.startswith("category:"):
            return self.open((int(figure.partition(":")[2]),), in_period)
        return {
            "won": (WON_IN_PERIOD,),
            "lost": (LOST_IN_PERIOD,),
            "open": self.open(self.counted, in_period),
            "weighted_open": self.open(self.counted, in_period),
            "weighted": (WON_IN_PERIOD, *self.open(self.counted, in_period)),
            "commit_forecast": (WON_IN_PERIOD, *self.open(self.counted[:1], in_period)),
            "best_case_forecast": (WON_IN_PERIOD, *self.open(self.counted[:2], in_period)),
            "overdue": self.open(self.counted, (OVERDUE,)),
            "overdue_before": self.open(self.counted, (DUE_BEFORE,)),
            "undated": self.open(self.counted, (UNDATED,)),
        }[figure]


@cache
def picks(buckets: Buckets) -> Ints:
    """Shape (2 × buckets, names): 1 where the figure of the column adds up the bucket of the row.

    Amounts stand in the first half of the rows, weighted values in the second.
    """
    table = np.zeros((2 * buckets.size, len(buckets.names)), dtype=np.int64)
    for column, name in enumerate(buckets.names):
        first = buckets.size if name.startswith("weighted") else 0
        table[[first + bucket for bucket in buckets.of(name)], column] = 1
    table.setflags(write=False)
    return table


def buckets_in(snapshot: BookAsOf, first: int, last: int) -> Ints:
    """The bucket of each state in a period from day ordinal `first` to `last`, shape of the snapshot.

    Won deals fall in the period of their closing, open ones in that of their expected close; where the snapshot has
    other days that decide (`due_on`), won and open ones in that of those. Overdue is always of the expected close.
    """
    close, today, day = snapshot.expected_close, snapshot.as_of.toordinal(), deciding_day(snapshot)
    inside = (day >= first) & (day <= last)
    late = (close < today) & (close != NO_DAY)
    timing = np.where(inside, np.where(late, OVERDUE, DUE), np.where(late & (day < first), DUE_BEFORE, OTHER_PERIOD))
    timing[day == NO_DAY] = UNDATED
    closed = np.where(snapshot.kind == WON, WON_IN_PERIOD, LOST_IN_PERIOD) + ~inside
    return np.where(snapshot.kind == OPEN, FIRST_OPEN + snapshot.category * TIMINGS + timing, closed)


def deciding_day(snapshot: BookAsOf) -> Ints:
    """The day ordinal by which each state falls in a period, 0 for none, shape of the snapshot.

    The closing of closed deals and the expected close of open ones; where the snapshot has days of its own
    (`due_on`), those of won and open ones.
    """
    is_open = snapshot.kind == OPEN
    if snapshot.due_on is None:
        return np.where(is_open, snapshot.expected_close, snapshot.closed_on)
    return np.where(is_open | (snapshot.kind == WON), snapshot.due_on, snapshot.closed_on)
