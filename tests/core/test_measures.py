"""What deals count for, by every breakdown and pair: rows add up and open into themselves."""

from collections import defaultdict
from random import Random

import pytest

from tests.support.random_world import AS_OF, PERIOD, world_with_lines
from wise_tally.core.breakdowns import MEMBER, Pairs, grouping, pair
from wise_tally.core.buckets import FIGURES
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.measures import BASES, MEASURES, valued
from wise_tally.core.working import forecast_working


@pytest.mark.parametrize("seed", range(4))
def test_rows_of_every_breakdown_and_pair_add_up_and_open_into_themselves(seed):
    book, random = world_with_lines(seed + 10).book(), Random(seed)
    plain, period = book.as_of(AS_OF), book.reference.fiscal.parse(PERIOD)
    names = ("company", "process", "deal_type", "source", "partner", "product_group", "own:colour", "person")
    for measure in MEASURES:
        for basis in BASES:
            snapshot = valued(book, plain, measure, basis)
            whole = forecast(book, snapshot, period, Filter(), "company")[0]
            by, within = random.sample(names[1:], 2)
            outer = {row.node: row for row in forecast(book, snapshot, period, Filter(), by)}
            pairs = grouping(book, pair(by, within), AS_OF)
            assert isinstance(pairs, Pairs)
            inner = forecast(book, snapshot, period, Filter(), pair(by, within))
            for name in FIGURES:
                if measure != "deals":
                    assert sum(getattr(row, name) for row in outer.values()) == getattr(whole, name)
                    parts = defaultdict(int)
                    for row in inner:
                        parts[pairs.split(row.node)[0]] += getattr(row, name)
                    assert {k: v for k, v in parts.items() if v} == {
                        n: getattr(row, name) for n, row in outer.items() if getattr(row, name)
                    }
                row = random.choice(inner)
                opened = forecast_working(book, snapshot, period, Filter(), name, pair(by, within), row.node)
                assert opened.value_minor == getattr(row, name)
                if measure == "deals" and not name.startswith("weighted"):
                    assert getattr(whole, name) % 100 == 0
                    assert opened.value_minor == 100 * len({deal.deal for deal in opened.counted})
    assert whole.won == sum(r.won for r in forecast(book, snapshot, period, Filter(), MEMBER)) or measure == "deals"
