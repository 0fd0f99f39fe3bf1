"""The reference class counts stays."""

from datetime import timedelta

from tests.support.outlook_books import REFERENCE, TODAY, won_after
from tests.support.small_books import FIRST, SECOND, book_of
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.outlook.reference_class import reference_class


def test_a_reference_class_counts_stays_not_deals():
    histories = [won_after(9, TODAY - timedelta(days=100 + n)) for n in range(40)]
    histories += [[(TODAY - timedelta(days=130 + n), FIRST, 100, None)] for n in range(20)]
    book, cut = book_of(histories, REFERENCE), midnight_ending(TODAY, "UTC")
    for age, deals, won in ((3, 60, 40), (8, 60, 40)):
        found = reference_class(book, cut, 30, FIRST, age)
        assert (found.days, len(found.deals), len(found.won), found.or_more) == (age, deals, won, False)
    assert len(reference_class(book, cut, 5, FIRST, 3).won) == 0
    beyond = reference_class(book, cut, 30, FIRST, 12)
    assert (beyond.days, len(beyond.deals), beyond.or_more) == (9, 60, True)
    assert not reference_class(book, cut, 30, SECOND, 0).enough
