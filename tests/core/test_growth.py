"""What was learnt from a book that grew, at the moments from which a revision counts, against a book made anew."""

from dataclasses import asdict, fields, replace
from datetime import date

import numpy as np
import pytest

from tests.core.test_outlook import cut_at, worked
from tests.support.small_books import FIRST, IS_WON, SECOND
from wise_tally.core.book import Book, Revisions
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.growth import take_over, with_added
from wise_tally.core.outlook.fit import fit
from wise_tally.core.outlook.trust import last_days
from wise_tally.core.statistics import DAY_SECONDS

DAY, HORIZON = date(2025, 6, 1), 30
CUT = midnight_ending(DAY, "UTC")
LANDMARK = CUT - HORIZON * DAY_SECONDS


def anew(book: Book) -> Book:
    """The same book with nothing derived, its columns put together."""
    columns = (np.array(getattr(book.revisions, one.name)) for one in fields(Revisions))
    return replace(book, revisions=Revisions(*columns))


def learnt(book: Book):
    return asdict(fit(book, DAY, HORIZON)), asdict(last_days(book, DAY, HORIZON))


def with_one_more(book: Book, moment: int, stage: int) -> Book:
    """The book after a deal in the first stage went to another at the moment, with what is taken over."""
    rows = np.r_[np.flatnonzero(np.diff(book.revisions.deal)), len(book.revisions.deal) - 1]
    row = rows[book.revisions.stage[rows] == FIRST][:1]
    added = replace(book.revisions.take(row), effective_at=np.array([moment]), stage=np.array([stage]))
    revisions, growth = with_added(book.revisions, added)
    new = replace(book, revisions=revisions)
    take_over(book, new, growth)
    return new


@pytest.mark.parametrize("stage", [SECOND, IS_WON])
@pytest.mark.parametrize("moment", [LANDMARK - 1, LANDMARK, CUT - 1, CUT])
def test_what_a_day_teaches_follows_a_change_at_its_edges(moment, stage):
    book = anew(cut_at(worked(0), moment))
    before = learnt(book)
    new = with_one_more(book, moment, stage)
    found = learnt(new)
    np.testing.assert_equal(found, learnt(anew(new)))
    if moment == CUT:
        np.testing.assert_equal(found[0], before[0])
    assert (found[0]["like"].sum() > before[0]["like"].sum()) == (moment <= LANDMARK)
