"""Amount at winning, by hand."""

import pytest

from tests.support.outlook_books import HISTORIES, REFERENCE, TODAY, after
from tests.support.small_books import FIRST, IS_WON, SECOND, book_of
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.outlook.amounts import ratio_at_winning


def test_the_amount_at_winning_is_compared_with_the_middle_of_each_stay():
    raised = [(after(0), SECOND, 100, None), (after(3), SECOND, 300, None), (after(10), IS_WON, 600, None)]
    found = ratio_at_winning(book_of([raised, HISTORIES[1]], REFERENCE), midnight_ending(TODAY, "UTC"))
    assert found[SECOND] == pytest.approx((600 + 10 * 300) / (300 + 10 * 300))
    assert found[FIRST] == 1
