"""Reconciling two figures: the three sets are a partition, and each reason is the first test that fails."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.reconcile import Counted, reconcile

NAMES = ("not_there", "process", "status", "period")


@st.composite
def figures(draw):
    """Two figures over the same few deals, with random tests and values."""
    size = draw(st.integers(1, 12))
    flags = st.lists(st.booleans(), min_size=size, max_size=size)

    def one():
        passes = tuple((name, np.array(draw(flags), dtype=bool)) for name in NAMES)
        values = np.array(draw(st.lists(st.integers(-50, 50), min_size=size, max_size=size)), dtype=np.int64)
        found = Counted(values, passes, is_money=draw(st.booleans()))
        return Counted(values * found.counts, passes, found.is_money)

    return one(), one()


@given(figures())
def test_the_sets_partition_what_either_counts(pair):
    first, second = pair
    found = reconcile(first, second)
    sides = [{item.deal for item in side} for side in (found.both, found.only_first, found.only_second)]
    one, other = (set(np.flatnonzero(figure.counts).tolist()) for figure in pair)
    assert sides == [one & other, one - other, other - one]
    everything = (*found.both, *found.only_first, *found.only_second)
    assert sum(item.first_value for item in everything) == int(first.value.sum())
    assert sum(item.second_value for item in everything) == int(second.value.sum())


@given(figures())
def test_a_reason_is_the_first_test_that_the_deal_does_not_pass(pair):
    first, second = pair
    found = reconcile(first, second)
    for side, other in ((found.only_first, second), (found.only_second, first)):
        for item in side:
            failed = [name for name, flags in other.passes if not flags[item.deal]]
            assert item.reason == failed[0]
    for item in found.both:
        differs = first.is_money == second.is_money and item.first_value != item.second_value
        assert item.reason == ("value" if differs else "")
    for name, side in (("only_first", found.only_first), ("only_second", found.only_second)):
        assert sum(found.by_reason(name).values()) == len(side)
