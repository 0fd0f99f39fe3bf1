"""Stays: the unbroken times of deals in one stage."""

from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from wise_tally.core.derived import Grown
from wise_tally.core.money import Ints
from wise_tally.core.spliced import MOST_CHANGED, spliced

if TYPE_CHECKING:
    from wise_tally.core.book import Revisions

FOR_EVER = 1 << 62


@dataclass(frozen=True)
class Stays:
    """Unbroken times of deals with history in one stage, open or closed. `left_at` is FOR_EVER while it lasts."""

    deal: Ints
    stage: Ints
    entered_at: Ints
    left_at: Ints
    owner: Ints

    def of(self, deals: Ints) -> "Stays":
        """Those of the given deals, which ascend."""
        rows = rows_of_deals(self.deal, deals)
        return Stays(*(getattr(self, one.name)[rows] for one in fields(Stays)))


def run_starts(rev: "Revisions") -> npt.NDArray[np.integer]:
    """The revisions with which deals entered a stage."""
    return np.flatnonzero(np.r_[True, (np.diff(rev.deal) != 0) | (np.diff(rev.stage) != 0)][: len(rev.deal)])


def stays_of(rev: "Revisions", starts: npt.NDArray[np.integer], short_form: npt.NDArray[Any]) -> Stays:
    """Stays of deals with history, from the revisions that start them."""
    following = np.r_[starts[1:], 0][: len(starts)]
    left = np.where(rev.deal[following] == rev.deal[starts], rev.effective_at[following], FOR_EVER)
    if len(left):
        left[-1] = FOR_EVER
    with_history = ~short_form[rev.deal[starts]]
    rows = starts[with_history]
    return Stays(rev.deal[rows], rev.stage[rows], rev.effective_at[rows], left[with_history], rev.owner[rows])


def mended_stays(known: Stays, grown: Grown) -> Stays | None:
    """Those of deals with a revision that came or went take the place of what they were."""
    deals, new = deals_changed(grown), grown.new
    if deals is None:
        return None
    revisions = new.revisions.take(rows_of_deals(new.revisions.deal, deals))
    stays = stays_of(revisions, run_starts(revisions), new.deals.short_form)
    gone = rows_of_deals(known.deal, deals)
    # Before a stay of these deals stand those of the others before its deal, and those of these deals before it.
    before = np.searchsorted(known.deal, stays.deal)
    rows = before - np.searchsorted(gone, before) + np.arange(len(before))
    names = (one.name for one in fields(Stays))
    return Stays(*(spliced(getattr(known, name), gone, rows, getattr(stays, name)) for name in names))


def deals_changed(grown: Grown) -> Ints | None:
    """Deals with a revision that came or went, ascending; None where they are many, or the reference data is another."""
    old, new = grown.old, grown.new
    deals = np.unique(np.r_[old.revisions.deal[grown.growth.gone], new.revisions.deal[grown.growth.rows]])
    return deals if old.reference is new.reference and len(deals) <= MOST_CHANGED else None


def recounted(known: Any, grown: Grown, count: Callable[..., Any], cut: int, *more: Any) -> Any:
    """An array that `count(book, stays, cut, ...)` gave of all stays of a book: less what changed deals had, more what they have.

    What came or went at or after the moment `cut` counts for nothing.
    """
    deals = deals_changed(grown)
    if deals is None or (grown.growth.moments >= cut).all():
        return None if deals is None else known
    was, now = (count(book, book.stays.of(deals), cut, *more) for book in (grown.old, grown.new))
    return known - was + now


def recounting(count: Callable[..., Any]) -> Callable[..., Any]:
    """The mend of a derived array that is nothing but what `count` gives: see `recounted`."""
    return lambda known, grown, cut, *more: recounted(known, grown, count, cut, *more)


def rows_of_deals(deal: Ints, deals: Ints) -> Ints:
    """Rows of the given deals in a column of deals; both ascend."""
    first, end = np.searchsorted(deal, deals), np.searchsorted(deal, deals, side="right")
    counts = end - first
    return np.repeat(first - np.cumsum(counts) + counts, counts) + np.arange(counts.sum())
