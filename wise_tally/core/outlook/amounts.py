"""Amount at winning: what deals are won for, compared with their amounts half way through each stage's stay."""

import numpy as np

from wise_tally.core.book import FOR_EVER, Book
from wise_tally.core.conversion import NEVER
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints
from wise_tally.core.outlook.moves import LOOK_BACK_DAYS
from wise_tally.core.outlook.standings import FITS_KEPT, first_win
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS, Floats

# Deals of the mean amount, won for what they stood at, that each stage's ratio is pulled to.
PRIOR_DEALS = 10.0
MOMENT_BITS = 36


def _same_winnings(known: Floats, grown: Grown, _cut: int) -> Floats | None:
    """Stays of deals that were never won say nothing of the ratio."""
    changes = ((grown.new, grown.growth.rows), (grown.old, grown.growth.gone))
    never_won = all((first_win(book)[0][book.revisions.deal[rows]] == NEVER).all() for book, rows in changes)
    return known if grown.growth.same_known and never_won else None


@derived(_same_winnings, most=FITS_KEPT)
def ratio_at_winning(book: Book, cut: int) -> Floats:
    """By stage Σ amount at winning ÷ Σ amount then, pulled to 1; shape (stages,).

    Of stays begun in the look-back whose deals were won before `cut`. The amount half way through a stay stands for that of a
    running one. Stages without such stays have 1.
    """
    stays, (won_at, won_minor) = book.stays, first_win(book)
    recent = (stays.entered_at >= cut - LOOK_BACK_DAYS * DAY_SECONDS) & (stays.entered_at < cut)
    kept = recent & (book.reference.stage_kind[stays.stage] == OPEN) & (won_at[stays.deal] < cut)
    rows = np.flatnonzero(kept)
    deal, stage = stays.deal[rows], stays.stage[rows]
    middle = (stays.entered_at[rows] + np.minimum(stays.left_at[rows], cut)) // 2
    then = book.revisions.amount_minor[_revision_at(book, deal, middle)]
    size = len(book.reference.stages)
    won, stood, number = (np.bincount(stage, one, size) for one in (won_minor[deal], then, np.ones(len(rows))))
    prior = PRIOR_DEALS * np.divide(stood, number, out=np.ones(size), where=number > 0)
    # Deals without an amount then say nothing of a ratio.
    return np.divide(won + prior, stood + prior, out=np.ones(size), where=stood + prior > 0)


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
