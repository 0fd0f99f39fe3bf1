"""What was learnt from a book that grew, at the moments from which a revision counts, against a book made anew."""

from dataclasses import asdict, fields, is_dataclass, replace
from datetime import date

import numpy as np
import pytest

from tests.support.outlook_books import cut_at, worked
from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND
from wise_tally.core.book import STATES, Book, Deals, Revisions
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.growth import take_over, with_added
from wise_tally.core.outlook.fit import fit
from wise_tally.core.outlook.still_to_come import created_moments
from wise_tally.core.outlook.trust import last_days
from wise_tally.core.reach import first_win, reach_of_revisions, reached_days
from wise_tally.core.reference_data import LOST, WON
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
    return grown(book, replace(book.revisions.take(row), effective_at=np.array([moment]), stage=np.array([stage])))


def grown(book: Book, added: Revisions, deals: Deals | None = None, again: int | None = None) -> Book:
    """The book with more revisions, of the deal `again` with these alone, and what is taken over."""
    revisions, growth = with_added(book.revisions, added, np.array([] if again is None else [again], dtype=np.int64))
    new = replace(book, revisions=revisions, deals=deals or book.deals)
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


def reached(book: Book):
    return (
        np.asarray(reach_of_revisions(book, 0)),
        reached_days(book, 0),
        first_win(book),
        book.stays,
        last_days(book, DAY, HORIZON),
    )


@pytest.mark.parametrize("stage", [SECOND, IS_WON])
def test_what_is_put_back_was_never_reached(stage):
    """A deal goes on at the landmark, and that is taken back: all is as before, whatever was asked meanwhile."""
    book = anew(cut_at(worked(0), LANDMARK))
    before = reached(book)
    after = with_one_more(book, LANDMARK, stage)
    moved = reached(after)
    assert (moved[1] != before[1]).sum() == 1 or stage == IS_WON
    assert (moved[2][0] != before[2][0]).sum() == (stage == IS_WON)
    deal = int(np.setdiff1d(after.revisions.deal[after.revisions.effective_at == LANDMARK], [])[0])
    back = grown(after, book.revisions.take(np.flatnonzero(book.revisions.deal == deal)), again=deal)
    for found, plain in zip(reached(back), before, strict=True):
        np.testing.assert_equal(
            vars(found) if is_dataclass(found) else found, vars(plain) if is_dataclass(plain) else plain
        )


MENDED = {"stays", "effective_to", "_rows_in_stage", "as_of", "reach_of_revisions", "reached_days", "first_win", "observed_stays",
          "decided_deals", "_like", "_winnings", "past_open_deals", "_given_then", "slips_so_far", "slipped",
          "created_moments"}  # fmt: skip


def kept_by(book: Book):
    return {declaration.compute.__name__ for declaration, _, _ in book.cache.items()}


def test_a_change_mends_what_it_touches_and_other_reference_data_leaves_nothing():
    book = anew(cut_at(worked(0), CUT))
    book.as_of(DAY)
    reached(book)
    learnt(book)
    assert kept_by(book) >= MENDED
    assert kept_by(with_one_more(book, CUT - 1, SECOND)) >= MENDED
    won, lost = book.reference.stages[IS_WON], book.reference.stages[IS_LOST]
    swapped = (*book.reference.stages[:IS_WON], replace(won, kind=LOST), replace(lost, kind=WON))
    new = replace(book, reference=replace(book.reference, stages=swapped))
    take_over(book, new, with_added(book.revisions, book.revisions.take(np.array([], dtype=int)))[1])
    for found, plain in zip(reached(new), reached(anew(new)), strict=True):
        np.testing.assert_equal(
            vars(found) if is_dataclass(found) else found, vars(plain) if is_dataclass(plain) else plain
        )


def test_a_new_deal_is_known_by_its_key_its_day_and_its_first_revision():
    """One that was created before its first revision; what is known of the others stays."""
    book = anew(worked(0))
    before = created_moments(book), book.created_on, book.index_by_key
    columns = {
        one.name: np.append(getattr(book.deals, one.name), getattr(book.deals, one.name)[-1:])
        for one in fields(Deals)[1:]
    }
    deals = Deals((*book.deals.key, "late"), **(columns | {"created_at": np.append(book.deals.created_at, CUT)}))
    added = replace(
        book.revisions.take(np.array([0])), deal=np.array([400]), effective_at=np.array([CUT + DAY_SECONDS])
    )
    new = grown(book, added, deals)
    assert (created_moments(new)[400], new.created_on[400]) == (CUT + DAY_SECONDS, date(2025, 6, 2).toordinal())
    assert new.index_by_key == before[2] | {"late": 400}
    np.testing.assert_equal((created_moments(new)[:400], new.created_on[:400]), before[:2])
    assert "late" not in book.index_by_key


def of_the_book(book: Book):
    """What a book derives of its own revisions, and its states on days before, amid and after the changes."""
    rows = np.arange(len(book.revisions.deal))
    states = [{name: np.asarray(getattr(book.as_of(day), name)) for name in STATES} for day in DAYS]
    return np.asarray(book.effective_to), book.entered_row(rows), vars(book.stays), book.first_entered_at, states


DAYS = (date(2025, 1, 1), date(2026, 3, 1), date(2026, 8, 1))


@pytest.mark.parametrize("seed", range(12))
def test_however_it_grows_a_book_says_what_one_made_anew_says(seed):
    """Some revisions at once, of one deal several, at one moment with its last; last ones put back; each on what came before."""
    random = np.random.default_rng(seed)
    book = anew(worked(seed))
    of_the_book(book)
    at = midnight_ending(date(2026, 6, 1), "UTC")
    for _ in range(6):
        at += DAY_SECONDS // 2
        ends = np.r_[np.flatnonzero(np.diff(book.revisions.deal)), len(book.revisions.deal) - 1]
        if random.random() < 0.3:
            deal = int(random.integers(400))
            left = np.flatnonzero(book.revisions.deal == deal)[:-1]
            book = grown(book, book.revisions.take(left), again=deal) if len(left) else book
        else:
            picked = np.sort(random.choice(ends, random.integers(1, 5), replace=False))
            picked = np.sort(np.r_[picked, picked[:1]])
            moments = np.where(
                random.random(len(picked)) < 0.3, book.revisions.effective_at[picked], at + np.arange(len(picked))
            )
            added = replace(
                book.revisions.take(picked),
                effective_at=np.maximum(moments, book.revisions.effective_at[picked]),
                stage=random.integers(0, 4, len(picked)),
                amount_minor=random.integers(1, 9_999, len(picked)),
            )
            book = grown(book, added.take(np.lexsort((added.effective_at, added.deal))))
        np.testing.assert_equal(of_the_book(book), of_the_book(anew(book)))
