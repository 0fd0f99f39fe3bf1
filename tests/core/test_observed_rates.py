"""Set probabilities beside actual win rates, against plain loops."""

import pytest

from tests.support.random_world import random_reading
from tests.support.small_books import FIRST, book_of, day, decided_deals, reference
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import probability_check

YEAR = reference().fiscal.parse("FY2026")


@pytest.mark.parametrize("seed", range(6))
def test_set_and_seen_equals_a_loop(seed):
    """Ruling 24: decided deals that first reached a stage in the look-back, a skipped one when the later is entered."""
    book, snapshot, period, naive = random_reading(seed, 60)
    order = naive.order("p")
    rows = {
        book.reference.stages[row.stage].key: row
        for row in probability_check(book, snapshot, period, Filter())[0].stages
    }
    for stage, row in rows.items():
        inside = []
        for key, state in naive.states.items():
            reached = naive.first_reached(key, order, order.index(stage))
            if state["kind"] != "open" and reached is not None and period.starts_on <= reached <= period.ends_on:
                inside.append(state["kind"])
        assert (row.decided, row.won) == (len(inside), inside.count("won")), stage


@pytest.mark.parametrize(("count", "off"), [(20, True), (19, False)])
def test_a_probability_is_called_off_from_twenty_deals_on(count, off):
    book = book_of(decided_deals(count, day("2026-02-01"), won=0))
    rate = probability_check(book, book.as_of(day("2026-06-30")), YEAR, Filter())[0].stages[FIRST]
    assert (rate.decided, rate.off) == (count, off)
