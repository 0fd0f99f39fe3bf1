"""What changed between two days, against the states of both days in plain Python."""

from datetime import date

import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world
from wise_tally.core.lines import Filter
from wise_tally.core.what_changed import changes

DAYS = date(2024, 12, 1), date(2025, 6, 3)


@pytest.mark.parametrize("seed", range(4))
def test_each_deal_has_its_part_of_both_days_the_largest_change_first(seed):
    world = random_world(seed, 90)
    book = world.book()
    period = book.reference.fiscal.parse("2024-01-01/2025-12-31")

    def won(day):
        states = Naive(world.tables, day).states
        inside = {k: s for k, s in states.items() if s["kind"] == "won" and s["closed_on"].year in (2024, 2025)}
        return {key: state["amount"] for key, state in inside.items()}

    then, now = (won(day) for day in DAYS)
    found = changes(book, *(book.as_of(day) for day in DAYS), period, Filter(), "won")
    assert (found.before_minor, found.after_minor) == (sum(then.values()), sum(now.values()))
    assert {book.deals.key[one.deal]: (one.before_minor, one.after_minor) for one in found.moved} == {
        key: (then.get(key, 0), now.get(key, 0))
        for key in then.keys() | now.keys()
        if then.get(key, 0) != now.get(key, 0)
    }
    sizes = [abs(one.change_minor) for one in found.moved]
    assert sizes == sorted(sizes, reverse=True)
    assert sum(one.change_minor for one in found.moved) == found.change_minor
