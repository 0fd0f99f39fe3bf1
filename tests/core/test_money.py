"""Money as integers: dividing, rounding and exact sums, against published apportionments and exact fractions."""

from random import Random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wise_tally.core.errors import AmountOverflow
from wise_tally.core.money import (
    apportion,
    credited_parts,
    divide_half_even,
    divided_parts,
    line_amount,
    line_margin,
    margin_of_lines,
    sum_by_group,
    weighted_minor,
)

# The 1790 census populations for apportionment and the 120 seats that Hamilton's bill (vetoed in 1792) gave.
# Source: Balinski and Young, Fair Representation (1982), table 1; from memory.
CENSUS_1790 = {
    "Connecticut": (236_841, 8), "Delaware": (55_540, 2), "Georgia": (70_835, 2), "Kentucky": (68_705, 2),
    "Maryland": (278_514, 9), "Massachusetts": (475_327, 16), "New Hampshire": (141_822, 5),
    "New Jersey": (179_570, 6), "New York": (331_589, 11), "North Carolina": (353_523, 12),
    "Pennsylvania": (432_879, 14), "Rhode Island": (68_446, 2), "South Carolina": (206_236, 7),
    "Vermont": (85_533, 3), "Virginia": (630_560, 21),
}  # fmt: skip


def test_largest_remainder_gives_the_house_of_1792():
    names = list(CENSUS_1790)
    seats = apportion(120, [CENSUS_1790[n][0] for n in names], names)
    assert dict(zip(names, seats, strict=True)) == {n: s for n, (_, s) in CENSUS_1790.items()}


@given(st.integers(-(10**13), 10**13), st.lists(st.integers(0, 10**6), min_size=1, max_size=9))
def test_parts_always_sum_to_the_whole(total, weights):
    parts = apportion(total, weights, [str(i) for i in range(len(weights))])
    assert sum(parts) == total
    exact = [total * w / sum(weights) for w in weights] if sum(weights) else [total / len(weights)] * len(weights)
    assert all(abs(p - e) < 1 + abs(e) * 1e-9 for p, e in zip(parts, exact, strict=True))


def test_shares_by_weight_are_those_of_hamilton():
    """Against the exact division of Python integers, which is held against the House of 1792; large sums included."""
    random = Random(7)
    for size in (1, 900, 10**15):
        weights = [[random.randrange(size) for _ in range(random.randrange(1, 5))] for _ in range(30)]
        totals = [random.randrange(-size, size) for _ in weights]
        group = np.repeat(np.arange(30), [len(w) for w in weights])
        rank = np.concatenate([np.arange(len(w)) for w in weights])
        value = np.repeat(totals, [len(w) for w in weights])
        found = divided_parts(value, np.array([w for ws in weights for w in ws]), group, rank)
        expected = [apportion(t, w, [str(i) for i in range(5)]) for t, w in zip(totals, weights, strict=True)]
        assert found.tolist() == [part for parts in expected for part in parts]


@given(st.lists(st.tuples(st.integers(0, 10**13), st.integers(1, 9_999)), min_size=1, max_size=6))
def test_vector_credit_equals_the_plain_method(deals):
    """Ruling 7: the deal is rounded whole, then divided; ties go to the larger share, then the lower identifier."""
    value = np.array([v for v, _ in deals for _ in range(2)])
    share = np.array([s for _, first in deals for s in (first, 10_000 - first)])
    deal = np.repeat(np.arange(len(deals)), 2)
    parts = credited_parts(value, share, deal, np.tile([0, 1], len(deals)))
    plain = [p for v, first in deals for p in apportion(v, [first, 10_000 - first], ["a", "b"])]
    assert parts.tolist() == plain


@given(st.integers(0, 10**14), st.integers(0, 10_000))
def test_weighted_rounds_half_to_even_per_deal(amount, probability):
    """amount × probability, common practice; half to even as in decimal arithmetic."""
    assert int(weighted_minor(np.array([amount]), np.array([probability]))[0]) == round_fraction(
        amount * probability, 10_000
    )


def round_fraction(numerator, denominator):
    from fractions import Fraction

    return round(Fraction(numerator, denominator))


def test_half_even_at_the_ties():
    assert [divide_half_even(n, 2) for n in (-3, -1, 1, 3, 5)] == [-2, 0, 0, 2, 2]


@settings(max_examples=50)
@given(st.lists(st.integers(-(10**14), 10**14), max_size=40))
def test_sums_are_exact_beyond_floats(values):
    array = np.array(values, dtype=np.int64)
    assert sum_by_group(array, np.zeros(len(values), dtype=np.int64), 1)[0] == sum(values)


def test_a_sum_beyond_64_bits_is_refused():
    """200 000 deals of 10^11 major units stay exact; what cannot be held is refused, never wrong."""
    assert sum_by_group(np.full(200_000, 10**13), np.zeros(200_000, dtype=int), 1)[0] == 2 * 10**18
    with pytest.raises(AmountOverflow, match="smaller amounts are accepted"):
        sum_by_group(np.full(600_000, 10**13), np.zeros(600_000, dtype=int), 1)


def test_the_margin_of_lines():
    """10 × 12.50 less 10 %, cost 7.20 each: 112.50 − 72.00. None without a cost, and without lines."""
    amount = line_amount(100_000, 1_250, 1_000)
    assert (amount, line_margin(100_000, amount, 720)) == (11_250, 4_050)
    assert line_margin(100_000, amount, None) is None
    assert margin_of_lines([4_050, -50]) == 4_000
    assert margin_of_lines([4_050, None]) is None
    assert margin_of_lines([]) is None
