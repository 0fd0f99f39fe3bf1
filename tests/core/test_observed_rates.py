"""Probabilities as set beside win rates as seen, against plain loops."""

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive
from tests.support.random_world import random_world, window
from tests.support.small_books import FIRST, book_of, day, decided_deals, reference
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import probability_check

YEAR = reference().fiscal.parse("FY2026")


@pytest.mark.parametrize("seed", range(6))
def test_set_and_seen_equals_a_loop(seed):
    """Ruling 24: decided deals that first reached a stage in the look-back, a skipped one when the later is entered."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    rows = ask(book, "set-and-seen", f"{start}/{end}", as_of.isoformat())
    order = naive.order("p")
    for stage, row in rows.items():
        inside = []
        for key, state in naive.states.items():
            reached = naive.first_reached(key, order, order.index(stage))
            if state["kind"] != "open" and reached is not None and start <= reached <= end:
                inside.append(state["kind"])
        assert (row["decided"], row["won"]) == (len(inside), inside.count("won")), stage


@pytest.mark.parametrize(("count", "off"), [(20, True), (19, False)])
def test_a_probability_is_called_off_from_twenty_deals_on(count, off):
    book = book_of(decided_deals(count, day("2026-02-01"), won=0))
    rate = probability_check(book, book.as_of(day("2026-06-30")), YEAR, Filter())[0].stages[FIRST]
    assert (rate.decided, rate.off) == (count, off)
