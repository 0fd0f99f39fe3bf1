"""Size bands are quartiles, and hold the deals that their working lists."""

from datetime import date

from tests.support.random_world import random_world
from wise_tally.core.conversion import ConversionOptions, conversion
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import decided_in, probability_check
from wise_tally.core.size_bands import NAMES, SIZE, with_size_bands

AS_OF = date(2025, 11, 20)


SCOPE = Filter(process=0)


def test_bands_groups_and_rows_hold_the_deals_that_their_working_lists():
    world = random_world(77, 150)
    book = world.book()
    snapshot, period = book.as_of(AS_OF), book.reference.fiscal.parse("2024-01-01/2025-11-20")
    banded = with_size_bands(book, snapshot, SCOPE)
    groups = {g.name: g for g in conversion(banded, snapshot, period, SCOPE, ConversionOptions(), SIZE)}
    assert set(groups) <= set(NAMES)
    whole = conversion(book, snapshot, period, SCOPE, ConversionOptions())[0]
    assert sum(g.totals.created for g in groups.values()) == whole.totals.created
    amounts = sorted(snapshot.amount_minor.tolist())
    small = sum(a <= amounts[(len(amounts) - 1) // 4] for a in amounts)
    assert groups[NAMES[0]].totals.created <= small
    for group in probability_check(banded, snapshot, period, SCOPE, SIZE):
        for rate in group.stages:
            at = decided_in(banded, snapshot, period, SCOPE, rate.stage, (SIZE, group.node))
            assert (len(at), int((snapshot.kind[at] == 1).sum())) == (rate.decided, rate.won)
