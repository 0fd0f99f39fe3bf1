"""Loss reasons: deals lost in a period by reason and by other breakdowns, against the period before."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from itertools import accumulate

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import EPOCH, Period
from wise_tally.core.lines import Filter, owner_filtered
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.reach import reach_of_revisions
from wise_tally.core.reference_data import LOST
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class LostRow:
    """Deals lost with one value (a place among the names, -1 none) in the period and in the one before; minor units."""

    value: int
    deals: int
    amount_minor: int
    deals_before: int
    amount_before: int


@dataclass(frozen=True)
class LostTable:
    """Rows by value, the most money first, and their sums; in minor units."""

    rows: tuple[LostRow, ...]

    @property
    def whole(self) -> LostRow:
        """All rows together."""
        names = ("deals", "amount_minor", "deals_before", "amount_before")
        return LostRow(NONE, *(sum(getattr(row, name) for row in self.rows) for name in names))

    def share(self, row: LostRow) -> float | None:
        """A row's part of all the money lost in the period."""
        return ratio(row.amount_minor, self.whole.amount_minor)

    @property
    def added_up(self) -> tuple[float | None, ...]:
        """For each row its share and those of the rows before it together."""
        whole = self.whole.amount_minor
        return tuple(ratio(so_far, whole) for so_far in accumulate(row.amount_minor for row in self.rows))


def lost_in(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> Ints:
    """Places of the deals of the scope lost in the period, by the owner on the day."""
    closed = snapshot.closed_on
    inside = (closed >= period.starts_on.toordinal()) & (closed <= period.ends_on.toordinal())
    return np.flatnonzero((snapshot.kind == LOST) & inside & owner_filtered(book, snapshot, scope))


def lost_from(book: Book, snapshot: BookAsOf, rows: Ints) -> Ints:
    """The furthest open stage that each lost deal ever stood in (its index), -1 for none; shape of `rows`.

    A short-form deal was lost from the stage that it says, else from the first.
    """
    furthest = np.full(len(rows), NONE, dtype=np.int64)
    for process in range(len(book.reference.processes)):
        order = np.array([*book.reference.open_stages(process), NONE], dtype=np.int64)
        of_process = book.deals.process[snapshot.deal[rows]] == process
        furthest[of_process] = order[reach_of_revisions(book, process)[snapshot.row[rows[of_process]]]]
    return furthest


def months_lost(snapshot: BookAsOf, rows: Ints, since: date) -> Ints:
    """Number of the month in which each deal was lost, from 0 for the month of `since`; shape of `rows`."""
    days = (snapshot.closed_on[rows] - EPOCH).astype("datetime64[D]")
    return (days.astype("datetime64[M]") - np.datetime64(since, "M")).astype(np.int64)


def crossed(snapshot: BookAsOf, rows: Ints, row: Ints, column: Ints) -> dict[tuple[int, int], tuple[int, int]]:
    """Deals and amount (minor units) of each pair of values that occurs among lost deals; all shapes are that of `rows`."""
    width = int(column.max(initial=0)) + 2
    pairs, of_pair = np.unique((row + 1) * width + column + 1, return_inverse=True)
    numbers, sums = np.bincount(of_pair), sum_by_group(snapshot.amount_minor[rows], of_pair, len(pairs))
    cells = zip(pairs.tolist(), numbers.tolist(), sums.tolist(), strict=True)
    return {(pair // width - 1, pair % width - 1): (deals, amount) for pair, deals, amount in cells}


def lost_by(snapshot: BookAsOf, sides: Sequence[tuple[Ints, Ints]]) -> LostTable:
    """Rows by value, the most money first. `sides` holds the deals lost in the period and in the one before (places in the
    snapshot) with the value of each (-1 none)."""
    (now, value_now), (before, value_before) = sides
    rows = []
    for value in np.union1d(value_now, value_before).tolist():
        rows_now, rows_before = now[value_now == value], before[value_before == value]
        sums = [int(snapshot.amount_minor[deals].sum()) for deals in (rows_now, rows_before)]
        rows.append(LostRow(value, len(rows_now), sums[0], len(rows_before), sums[1]))
    return LostTable(tuple(sorted(rows, key=lambda row: (-row.amount_minor, -row.deals, row.value))))
