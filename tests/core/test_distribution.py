"""Spreading: parts sum to the whole whatever the weights, steps and holds; a naive division as the second method."""

from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from wise_tally.core.distribution import check_curve, grown, spread
from wise_tally.core.errors import CoreError

PLANS = some.tuples(
    some.integers(0, 10**12),
    some.lists(some.integers(0, 10_000), min_size=1, max_size=14),
    some.sampled_from((1, 100, 10_000, 100_000)),
    some.sets(some.integers(0, 13), max_size=5),
)


@settings(max_examples=1_000)
@given(PLANS)
def test_a_thousand_random_plans_sum_exactly_and_stay_within_one_step_of_their_share(plan):
    total, weights, step, places = plan
    held = {place: total // 20 for place in places if place < len(weights)}
    free = [i for i in range(len(weights)) if i not in held]
    rest = total - sum(held.values())
    names = [f"n{i:02}" for i in range(len(weights))]
    if (rest and not free) or (free and not any(weights[i] for i in free)):
        with pytest.raises(CoreError):
            spread(total, weights, names, step, held)
        return
    parts = spread(total, weights, names, step, held)
    assert sum(parts) == total
    assert all(parts[place] == value for place, value in held.items())
    over = [i for i in free if parts[i] % step]
    assert len(over) <= 1, "only the largest part takes what the steps leave over"
    whole = sum(weights[i] for i in free)
    for i in free:
        share = Fraction(rest * weights[i], whole)
        assert abs(parts[i] - share) < 2 * step, (parts, share)


def test_what_cannot_be_spread_says_why():
    for arguments, says in (
        ((0, [0, 0], ["a", "b"]), "All shares are 0"),
        ((10, [], []), "no rows below"),
        ((10, [1, -1], ["a", "b"]), "cannot be negative"),
        ((10, [1, 1], ["a", "b"], 1, {0: 11}), "more than the total"),
        ((10, [1, 1], ["a", "b"], 1, {0: 4, 1: 4}), "less than the total"),
    ):
        with pytest.raises(CoreError, match=says):
            spread(*arguments)
    with pytest.raises(CoreError, match="add up to 99 %"):
        check_curve([825] * 12)
    with pytest.raises(CoreError, match="twelve percentages"):
        check_curve([5_000, 5_000])
    assert grown(12_345, 500) == 12_962, "12 962.25 rounds down"
    assert grown(250, 100) == 252, "252.5 rounds half to even"
    assert grown(1_000, -1_250) == 875
