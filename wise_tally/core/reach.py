"""How far deals came: the furthest stage each revision had reached, the day a stage was reached first, the first winning."""

from typing import Any

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Book, Revisions
from wise_tally.core.calendar import local_days
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST, WON
from wise_tally.core.spliced import spliced
from wise_tally.core.stays import deals_changed, rows_of_deals
from wise_tally.core.trees import NONE

NEVER = np.iinfo(np.int64).max


def _mended_reach(known: Any, grown: Grown, process: int) -> Any:
    """Reach follows from a deal's own revisions: all of a changed deal are worked out anew."""
    deals, old, new = deals_changed(grown), grown.old, grown.new
    if deals is None:
        return None
    gone, rows = (rows_of_deals(book.revisions.deal, deals) for book in (old, new))
    return spliced(known, gone, rows, _reach(new, new.revisions.take(rows), process))


@derived(_mended_reach)
def reach_of_revisions(book: Book, process: int) -> npt.NDArray[np.int16]:
    """Per revision the furthest place among the process's open stages (present order) that its deal had stood in.

    A short-form lost deal reached the stage it was lost from, else the first. -1 before any open stage.
    """
    return _reach(book, book.revisions, process)


def _reach(book: Book, rev: Revisions, process: int) -> npt.NDArray[np.int16]:
    """The same of all revisions of some deals."""
    index = np.full(len(book.reference.stages), NONE, dtype=np.int32)
    order = book.reference.open_stages(process)
    index[list(order)] = np.arange(len(order))
    own = index[rev.stage]
    short_lost = book.deals.short_form[rev.deal] & (book.reference.stage_kind[rev.stage] == LOST)
    lost_from = book.deals.lost_from[rev.deal[short_lost]]
    own[short_lost] = np.where(lost_from == NONE, 0, index[lost_from])
    # Deals are contiguous, so a rising base per deal keeps the running maximum inside each.
    width = len(order) + 1
    base = np.cumsum(np.r_[0, np.diff(rev.deal) != 0][: len(rev.deal)], dtype=np.int32) * width
    return np.asarray(np.maximum.accumulate(own + 1 + base) - base - 1, dtype=np.int16)


def _mended_days(known: Ints, grown: Grown, process: int) -> Ints | None:
    deals, new = deals_changed(grown), grown.new
    if deals is None:
        return None
    days = np.full((len(known), len(new.deals.key)), NEVER)
    days[:, : known.shape[1]] = known
    days[:, deals] = NEVER
    rows = rows_of_deals(new.revisions.deal, deals)
    _show_reached(days, new, new.revisions.take(rows), reach_of_revisions(new, process)[rows])
    return days


@derived(_mended_days)
def reached_days(book: Book, process: int) -> Ints:
    """The day ordinal on which revisions show each deal to have first reached each open stage, shape (open stages, deals).

    NEVER where none shows it. Computed once for a book: a look back only has to cut it off.
    """
    days = np.full((len(book.reference.open_stages(process)), len(book.deals.key)), NEVER)
    _show_reached(days, book, book.revisions, np.asarray(reach_of_revisions(book, process)))
    return days


def _show_reached(reached: Ints, book: Book, rev: Revisions, reach: npt.NDArray[np.int16]) -> None:
    """Put into `reached` what all revisions of some deals show."""
    before = np.r_[NONE, reach[:-1]][: len(reach)]
    before[np.r_[True, np.diff(rev.deal) != 0][: len(reach)]] = NONE
    # Reach never falls within a deal, so only the revisions that raise it show a stage reached for the first time.
    rows = np.flatnonzero(reach > before)
    came, days = rev.deal[rows], local_days(rev.effective_at[rows], book.reference.time_zone)
    for index in range(len(reached)):
        raised = (before[rows] < index) & (reach[rows] >= index)
        reached[index][came[raised]] = days[raised]


Wins = tuple[Ints, Ints]


def _mended_wins(known: Wins, grown: Grown) -> Wins | None:
    deals, new = deals_changed(grown), grown.new
    if deals is None:
        return None
    wins = _no_wins(new)
    for values, former, none in zip(wins, known, (NEVER, 0), strict=True):
        values[: len(former)] = former
        values[deals] = none
    _put_wins(wins, new, new.revisions.take(rows_of_deals(new.revisions.deal, deals)))
    return wins


@derived(_mended_wins)
def first_win(book: Book) -> Wins:
    """Moment and amount (minor units) of each deal's first winning, at which it reached what it had skipped; NEVER and 0 without one.

    Both of shape (deals,).
    """
    wins = _no_wins(book)
    _put_wins(wins, book, book.revisions)
    return wins


def _no_wins(book: Book) -> Wins:
    return np.full(len(book.deals.key), NEVER), np.zeros(len(book.deals.key), dtype=np.int64)


def _put_wins(wins: Wins, book: Book, rev: Revisions) -> None:
    """Put into `wins` what all revisions of some deals show."""
    rows = np.flatnonzero(book.reference.stage_kind[rev.stage] == WON)[::-1]
    # Of several values for one place the last stays: the first revision of each deal.
    for values, column in zip(wins, (rev.effective_at, rev.amount_minor), strict=True):
        values[rev.deal[rows]] = column[rows]
