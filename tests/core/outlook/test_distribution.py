"""The distribution of the outlook: by hand, against every combination, and against scipy."""

from itertools import product
from math import exp

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import poisson

from wise_tally.core.outlook.distribution import MayBeWon, outcome_of, what_if_won
from wise_tally.core.outlook.still_to_come import NOTHING_TO_COME, StillToCome


def test_won_and_two_deals_by_hand():
    asked = MayBeWon(100, np.array([40.0, 60.0]), np.array([0.25, 0.5]), NOTHING_TO_COME, 0.0)
    found = outcome_of(asked)
    assert found.mean_minor == 140
    chance = dict(
        zip(
            (found.won_minor + found.step_minor * np.arange(len(found.probability))).tolist(),
            found.probability,
            strict=True,
        )
    )
    assert [chance[total] for total in (100, 140, 160, 200)] == pytest.approx([0.375, 0.125, 0.375, 0.125])
    assert (found.quantile(0.1), found.quantile(0.9)) == (100, 200)


def test_deals_to_come_are_a_compound_poisson_sum():
    """Example: mean 2 of 10 (weight 3) and 30 (weight 1); against its definition, Poisson by scipy and draws written out."""
    to_come = StillToCome(np.zeros(2, dtype=int), np.array([10, 30]), np.array([1.5, 0.5]))
    found = outcome_of(MayBeWon(0, np.zeros(0), np.zeros(0), to_come, 0.0))
    assert found.mean_minor == 30
    assert found.probability[0] == pytest.approx(exp(-2))
    assert found.step_minor == 1
    plain = np.zeros(200)
    for tens, thirties in product(range(15), range(6)):
        total = 10 * tens + 30 * thirties
        if total < 200:
            plain[total] += poisson.pmf(tens, 1.5) * poisson.pmf(thirties, 0.5)
    assert found.probability[:100] == pytest.approx(plain[:100], abs=1e-9)
    shaken = outcome_of(MayBeWon(0, np.zeros(0), np.zeros(0), to_come, 0.5))
    totals = shaken.step_minor * np.arange(len(shaken.probability))
    assert float(shaken.probability @ totals) == pytest.approx(30, rel=2e-3), (
        "the shock moves it both ways, not its mean"
    )


@settings(max_examples=40)
@given(
    deals=st.lists(st.tuples(st.integers(1, 250), st.floats(0.01, 0.99)), min_size=1, max_size=7),
    shock=st.sampled_from([0.0, 0.25, 0.8]),
    quota=st.integers(0, 1500),
)
def test_the_distribution_is_that_of_every_combination(deals, shock, quota):
    """Brute force at each node of the shock; the chance of quota is what a deal's winning and its losing make of it."""
    amount, chance = np.array([a for a, _ in deals], dtype=float), np.array([p for _, p in deals])
    asked = MayBeWon(50, amount, chance, NOTHING_TO_COME, shock)
    (shift, weight), at_nodes = asked.nodes, asked.chance_at_nodes
    assert weight @ at_nodes == pytest.approx(chance)
    assert (shift * weight).sum() == pytest.approx(0, abs=1e-12)
    assert (shift**2 * weight).sum() == pytest.approx(shock**2)
    reached = 0.0
    for fates in product((0, 1), repeat=len(deals)):
        each = np.where(np.array(fates), at_nodes, 1 - at_nodes).prod(axis=1)
        reached += float(weight @ each) * (50 + (np.array(fates) * amount).sum() >= quota)
    found, pairs = what_if_won(asked, tuple(range(len(deals))), quota)
    assert found.step_minor == 1
    assert found.chance_of(quota) == pytest.approx(reached, abs=1e-9)
    for p, (with_it, without) in zip(chance.tolist(), pairs, strict=True):
        assert p * with_it + (1 - p) * without == pytest.approx(reached, abs=1e-9)


def test_many_deals_join_as_a_bell_and_keep_mean_and_variance():
    random = np.random.default_rng(3)
    amount, chance = random.integers(100, 90_000, 900).astype(float), random.random(900)
    to_come = StillToCome(np.zeros(3, dtype=int), np.array([5_000, 20_000, 70_000]), np.array([3.0, 2.0, 0.5]))
    found = outcome_of(MayBeWon(1_000, amount, chance, to_come, 0.0))
    totals = found.won_minor + found.step_minor * np.arange(len(found.probability))
    mean = float(found.probability @ totals)
    assert mean == pytest.approx(found.mean_minor, rel=1e-3)
    spread = (amount**2 * chance * (1 - chance)).sum() + (to_come.expected * to_come.amount_minor**2).sum()
    assert float(found.probability @ (totals - mean) ** 2) == pytest.approx(spread, rel=0.02)
