"""Figures of a list of deals: overstaying at its edge, slips against a plain loop."""

from datetime import date

import numpy as np
import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world, window
from tests.support.small_books import FIRST, book_of, day, reference
from wise_tally.core.deal_list import days_over, overstaying, slips


@pytest.mark.parametrize(("entered", "over"), [("2026-03-01", False), ("2026-02-28", True)])
def test_a_deal_at_its_typical_days_is_not_over_them(entered, over):
    """Ten typical days; at the end of 10 March a deal that came in on 1 March at midnight has been there ten days."""
    book = book_of([[(day(entered), FIRST, 100, None)]], reference(typical_days=(10.0, None)))
    snapshot, rows = book.as_of(day("2026-03-10")), np.array([0])
    assert overstaying(book, snapshot, rows).tolist() == [over]
    assert days_over(book, snapshot, rows).tolist() == pytest.approx([1.0 if over else np.nan], nan_ok=True)


@pytest.mark.parametrize("seed", range(12))
def test_slips_equal_plain_python(seed):
    world = random_world(seed)
    book, (_, _, as_of) = world.book(), window(seed)
    naive = Naive(world.tables, as_of)
    found = slips(book, book.as_of(as_of))
    pairs = {key: (int(found.count[i]), int(found.days[i])) for i, key in enumerate(book.deals.key)}
    assert pairs == {key: naive.slips(key) for key in pairs}
    if as_of > date(2025, 1, 1):
        assert any(count for count, _ in pairs.values())
