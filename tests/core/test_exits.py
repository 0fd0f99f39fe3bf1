"""Exits against a plain loop over the revisions."""

from itertools import pairwise

import pytest

from tests.support.naive import Naive, local
from tests.support.random_world import random_world, window
from wise_tally.core.conversion import ConversionOptions
from wise_tally.core.exits import WAYS, exits
from wise_tally.core.lines import Filter


@pytest.mark.parametrize("seed", range(12))
def test_stays_that_ended_in_the_period_by_where_their_deal_went_next(seed):
    """In numbers and in the deal's amount on the day."""
    world, (start, end, as_of) = random_world(seed), window(seed)
    book, naive = world.book(), Naive(world.tables, as_of)
    order, expected = naive.order("p"), {}
    for key, rows in naive.revisions.items():
        if key in naive.short or naive.deals[key]["process_id"] != "p":
            continue
        begun = [r for at, r in enumerate(rows) if at == 0 or rows[at - 1]["stage_id"] != r["stage_id"]]
        for row, then in pairwise(begun):
            if row["stage_id"] in order and then["at"] < naive.cut and start <= local(then["at"]) <= end:
                kind = naive.stages[then["stage_id"]]["kind"]
                onward = kind == "open" and order.index(then["stage_id"]) > order.index(row["stage_id"])
                way = kind if kind != "open" else "forward" if onward else "back"
                expected.setdefault((row["stage_id"], way), []).append(naive.states[key]["amount"])
    snapshot, period = book.as_of(as_of), book.reference.fiscal.parse(f"{start}/{end}")
    for row in exits(book, snapshot, period, Filter(process=0), ConversionOptions()):
        for way, stays, minor in zip(WAYS, row.stays, row.minor, strict=True):
            amounts = expected.get((book.reference.stages[row.stage].key, way), [])
            assert (stays, minor) == (len(amounts), sum(amounts)), (row.stage, way)
