"""Common shock: what landmarks vary beyond chance."""

import numpy as np
import pytest

from tests.support.outlook_books import HISTORIES, REFERENCE, TODAY
from tests.support.small_books import book_of
from wise_tally.core.outlook.common_shock import common_shock
from wise_tally.core.outlook.open_deal_states import Past, past_open_deals


def test_the_shock_is_what_landmarks_vary_beyond_chance():
    standing = past_open_deals(book_of(HISTORIES, REFERENCE), TODAY, 1).states
    rows = np.zeros(40, dtype=np.int64)
    past = Past(standing.take(rows), np.repeat([14, 28], 20), np.r_[np.ones(20, dtype=bool), np.zeros(20, dtype=bool)])
    v = 20 * 0.25
    beyond = ((20 - 10) ** 2 - v + (0 - 10) ** 2 - v) / (2 * v * v)
    quarters = 2 * 14 / 91
    assert common_shock(past, np.full(40, 0.5)) == pytest.approx(
        ((quarters * beyond + 2 * 0.04) / (quarters + 2)) ** 0.5
    )
    assert common_shock(past.take(rows[:0]), np.zeros(0)) == 0.25
