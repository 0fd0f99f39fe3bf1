"""Intervals of differences beside statsmodels and scipy, and what holds of every one."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.proportion import confint_proportions_2indep

from wise_tally.core.differences import difference_of_rates, ratio_of_frequencies, ratio_of_means, students_t


@pytest.mark.parametrize(
    ("first", "second"), [((56, 70), (48, 80)), ((9, 10), (3, 10)), ((0, 20), (5, 40)), ((10, 10), (0, 20))]
)
def test_the_difference_of_two_rates_is_newcombes(first, second):
    """statsmodels, `confint_proportions_2indep(method="newcomb")`; method 10 of his paper."""
    low, high = confint_proportions_2indep(*first, *second, method="newcomb", alpha=0.01)
    found = difference_of_rates(first, second)
    assert (found.low, found.high) == pytest.approx((low, high), abs=1e-9)


@given(st.integers(0, 40), st.integers(1, 40), st.integers(0, 40), st.integers(1, 40), st.integers(1, 50))
def test_differences_turn_around_and_widen_with_what_is_compared(won, lost, won_too, lost_too, compared):
    first, second = (won, won + lost), (won_too, won_too + lost_too)
    one, other = difference_of_rates(first, second), difference_of_rates(second, first)
    assert one.low == pytest.approx(-other.high)
    assert one.low <= first[0] / first[1] - second[0] / second[1] <= one.high
    wide = difference_of_rates(first, second, compared)
    assert wide.low <= one.low + 1e-12
    assert wide.high >= one.high - 1e-12


@pytest.mark.parametrize("freedom", [10, 19, 38.5, 200])
def test_students_quantile_is_scipys(freedom):
    assert students_t(freedom) == pytest.approx(stats.t.ppf(0.995, freedom), abs=1e-3)


def test_the_ratio_of_two_means_is_welchs():
    """scipy, `ttest_ind(equal_var=False).confidence_interval(0.99)` of the logarithms."""
    random = np.random.default_rng(4)
    first, second = np.exp(random.normal(8, 1, 30)), np.exp(random.normal(7.2, 0.6, 80))
    low, high = stats.ttest_ind(np.log(first), np.log(second), equal_var=False).confidence_interval(0.99)
    found = ratio_of_means(first, second)
    assert (found.low, found.high) == pytest.approx((math.exp(low), math.exp(high)), rel=1e-3)
    assert ratio_of_means(first[:19], second) is None, "nineteen are too few"
    assert ratio_of_means(np.full(20, 2.0), np.full(20, 1.0)).low == 2


@pytest.mark.parametrize(
    ("first", "second"), [((5, 28.0), (130, 364.0)), ((0, 28.0), (40, 364.0)), ((30, 28.0), (100, 364.0))]
)
def test_the_ratio_of_two_frequencies_turns_at_the_score_of_its_bounds(first, second):
    """At a bound the first count lies 2.576 standard deviations of the binomial from what is expected (score test, scipy's quantile)."""
    found = ratio_of_frequencies(first, second)
    number, z = first[0] + second[0], stats.norm.ppf(0.995)
    for bound in filter(None, (found.low, found.high)):
        share = bound * first[1] / (bound * first[1] + second[1])
        assert abs(first[0] - number * share) / math.sqrt(number * share * (1 - share)) == pytest.approx(z)
    assert ratio_of_frequencies((0, 1.0), (0, 1.0)) is None
