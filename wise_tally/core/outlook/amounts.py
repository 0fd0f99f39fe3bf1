"""Amount at winning: what deals are won for, compared with their amounts half way through each stage's stay."""

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.outlook.moves import CACHED_FITS, LOOK_BACK_DAYS
from wise_tally.core.reach import first_win
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.stays import FOR_EVER, Stays, recounting

# Deals of the mean amount, won for what they stood at, that each stage's ratio is pulled to.
PRIOR_DEALS = 10.0
MOMENT_BITS = 36


def ratio_at_winning(book: Book, cut: int) -> Floats:
    """By stage Σ amount at winning ÷ Σ amount then, pulled to 1; shape (stages,).

    Of stays begun in the look-back whose deals were won before `cut`. The amount half way through a stay stands for that of a
    running one. Stages without such stays have 1.
    """
    won, stood, number = _winnings(book, cut).astype(float)
    prior = PRIOR_DEALS * np.divide(stood, number, out=np.ones(len(number)), where=number > 0)
    # Deals without an amount then give no ratio.
    return np.divide(won + prior, stood + prior, out=np.ones(len(number)), where=stood + prior > 0)


def _winnings_of(book: Book, stays: Stays, cut: int) -> Ints:
    won_at, won_minor = first_win(book)
    recent = (stays.entered_at >= cut - LOOK_BACK_DAYS * DAY_SECONDS) & (stays.entered_at < cut)
    counted = recent & (book.reference.stage_kind[stays.stage] == OPEN) & (won_at[stays.deal] < cut)
    rows = np.flatnonzero(counted)
    deal, stage = stays.deal[rows], stays.stage[rows]
    middle = (stays.entered_at[rows] + np.minimum(stays.left_at[rows], cut)) // 2
    then = book.revisions.amount_minor[_revision_at(book, deal, middle)]
    size = len(book.reference.stages)
    sums = (sum_by_group(one, stage, size) for one in (won_minor[deal], then))
    return np.stack([*sums, np.bincount(stage, minlength=size)])


@derived(recounting(_winnings_of), most=CACHED_FITS)
def _winnings(book: Book, cut: int) -> Ints:
    """Minor units won, minor units half way through, and stays, by stage; shape (3, stages)."""
    return _winnings_of(book, book.stays, cut)


def _mended(known: tuple[int, Ints], grown: Grown) -> tuple[int, Ints] | None:
    origin, numbers = known
    rev, rows = grown.new.revisions, grown.growth.rows
    moments = rev.effective_at[rows] - origin
    if (moments < 0).any() or (grown.old.revisions.effective_at[grown.growth.gone] == origin).any():
        return None
    return origin, grown.growth.spliced(numbers, (rev.deal[rows] << MOMENT_BITS) | moments)


@derived(_mended)
def _in_order(book: Book) -> tuple[int, Ints]:
    """The first moment of all, and one rising number a revision of its deal and its moment after that, shape (revisions,)."""
    rev = book.revisions
    origin = int(rev.effective_at.min(initial=FOR_EVER))
    return origin, (rev.deal << MOMENT_BITS) | (rev.effective_at - origin)


def _revision_at(book: Book, deal: Ints, moment: Ints) -> Ints:
    """The revision of each deal in effect at a moment not before its first."""
    origin, numbers = _in_order(book)
    return np.searchsorted(numbers, (deal << MOMENT_BITS) | (moment - origin), side="right") - 1
