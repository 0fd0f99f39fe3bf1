"""Actual win rates in place of set probabilities: how many deals are enough, and of which days."""

import pytest

from tests.support.small_books import FIRST, book_of, day, decided_deals, reference
from wise_tally.core.observed_weight import observed_probabilities

YEAR = reference().fiscal.parse("FY2026")


@pytest.mark.parametrize(
    ("histories", "expected"),
    [
        (decided_deals(20, day("2025-12-31")), 2_500),
        (decided_deals(19, day("2025-12-31")), 5_000),
        # The look-back ends with the day before the period.
        (decided_deals(19, day("2025-12-31")) + decided_deals(1, day("2026-01-01")), 5_000),
        (decided_deals(19, day("2025-12-31")) + decided_deals(1, day("2025-01-01")), 3_000),
        (decided_deals(19, day("2025-12-31")) + decided_deals(1, day("2024-12-31")), 5_000),
    ],
)
def test_twenty_deals_that_reached_a_stage_in_the_look_back_are_enough(histories, expected):
    """A quarter of twenty is won; one more of another year or of the period itself does not count."""
    book = book_of(histories)
    found = observed_probabilities(book, book.as_of(day("2026-06-30")), YEAR)
    assert found.probability_bp[FIRST] == expected
