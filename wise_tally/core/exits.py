"""Exits: where the stays that ended in a period went, forward, back, to won or to lost."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import EPOCH, Period, local_days
from wise_tally.core.conversion import ConversionOptions, shown_places
from wise_tally.core.lines import Filter, owner_filtered
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.reference_data import LOST, WON
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.core.trees import NONE

WAYS = ("forward", "back", "won", "lost")
FORWARD, BACK, TO_WON, TO_LOST = range(len(WAYS))


@dataclass(frozen=True)
class ExitRow:
    """Stays of a stage that ended in the period by the way they went, in the order of WAYS; amounts in minor units."""

    stage: int
    stays: tuple[int, ...]
    minor: tuple[int, ...]

    @property
    def ended(self) -> tuple[int, int]:
        """All of them, and their amounts."""
        return sum(self.stays), sum(self.minor)

    def share(self, way: int, by_value: bool = False) -> float | None:
        """A way's part of all of them, by number or by value."""
        parts = self.minor if by_value else self.stays
        return ratio(parts[way], sum(parts))


@dataclass(frozen=True)
class EndedStays:
    """Stays in open stages that ended: place of the deal in the snapshot, stage, way (a place in WAYS)."""

    rows: Ints
    stage: Ints
    way: Ints


def ended_stays(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> EndedStays:
    """Stays of the scope's deals, by the owner on the day, that ended in the period and before the snapshot's cut."""
    stays, reference = book.stays, book.reference
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    # A local day lies within one day of the one of Greenwich, so that few moments need their local day.
    near = [(day - EPOCH) * DAY_SECONDS for day in (first - 1, last + 2)]
    rows = np.flatnonzero((stays.left_at >= near[0]) & (stays.left_at < min(near[1], snapshot.cut)))
    left_on = local_days(stays.left_at[rows], reference.time_zone)
    rows = rows[(left_on >= first) & (left_on <= last)]
    index = np.full(len(reference.stages), NONE, dtype=np.int64)
    order = reference.open_stages(scope.process)
    index[list(order)] = np.arange(len(order))
    rows = rows[index[stays.stage[rows]] != NONE]
    inside = np.zeros(len(book.deals.key), dtype=bool)
    inside[snapshot.deal[owner_filtered(book, snapshot, scope)]] = True
    rows = rows[inside[stays.deal[rows]]]
    # A stay that ended is followed by the one its deal moved to.
    target = stays.stage[rows + 1]
    kind = reference.stage_kind[target]
    onward = np.where(index[target] > index[stays.stage[rows]], FORWARD, BACK)
    way = np.where(kind == WON, TO_WON, np.where(kind == LOST, TO_LOST, onward))
    return EndedStays(np.searchsorted(snapshot.deal, stays.deal[rows]), stays.stage[rows], way)


def exits(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, options: ConversionOptions
) -> tuple[ExitRow, ...]:
    """One row a shown open stage, in order. Value is the amount on the day of the snapshot."""
    ended = ended_stays(book, snapshot, period, scope)
    order = book.reference.open_stages(scope.process)
    size = len(book.reference.stages) * len(WAYS)
    cell = ended.stage * len(WAYS) + ended.way
    counts = np.bincount(cell, minlength=size).reshape(-1, len(WAYS))
    minor = sum_by_group(snapshot.amount_minor[ended.rows], cell, size).reshape(-1, len(WAYS))
    shown = [order[index] for index in shown_places(book, order, options)[:-1]]
    return tuple(ExitRow(s, tuple(counts[s].tolist()), tuple(minor[s].tolist())) for s in shown)
