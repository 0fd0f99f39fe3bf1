"""Still to come: past wins placed in the days ahead."""

from datetime import timedelta

import numpy as np
import pytest

from tests.support.outlook_books import REFERENCE, TODAY, won_after
from tests.support.small_books import FIRST, IS_LOST, book_of
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.outlook.still_to_come import arrivals_a_day, still_to_come


def test_still_to_come_places_past_wins_in_the_days_ahead():
    """(20 + 10 + 5) ÷ 365 of wins that took 10, 20, 25 and 40 days; recent arrivals change the pace between a half and twice."""
    old = [(TODAY - timedelta(days=400), FIRST, 100, None), (TODAY - timedelta(days=399), IS_LOST, 100, None)]
    book = book_of([old, *(won_after(days, TODAY - timedelta(days=60)) for days in (10, 20, 25, 40))], REFERENCE)
    cut = midnight_ending(TODAY, "UTC")
    found = still_to_come(book, cut, 30)
    ago = np.array([400, 70, 80, 85, 100]) + 1.0
    ratio = arrivals_a_day(ago, 401.0, cut / 86_400, 30) / (4 / 365)
    assert 0.5 < ratio < 2
    assert found.number == pytest.approx((20 + 10 + 5) / 365 * ratio)
    assert found.mean_minor == pytest.approx(found.number * 100)
    assert still_to_come(book, cut, 30, before=15).number == pytest.approx((20 + 10 + 5 - 5) / 365 * ratio)
    # By hand: the weights of the arrivals over those of each day since the book began.
    weight = lambda days: 0.5 ** (days / 120)  # noqa: E731
    days = np.arange(0.5, 401)
    assert ratio == pytest.approx(weight(ago).sum() / weight(days).sum() / (4 / 365))
