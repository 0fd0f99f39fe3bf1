"""Kaplan–Meier and Wilson against published tables and other implementations."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lifelines import KaplanMeierFitter
from lifelines.utils import qth_survival_times
from statsmodels.stats.proportion import proportion_confint

from tests.support.seeds import seeds
from wise_tally.core.statistics import DAY_SECONDS, kaplan_meier, wilson

# Weeks of remission in the 6-MP arm. Source: Freireich et al., Blood 21 (1963), 699–716.
SIX_MP = [(6, 1), (6, 1), (6, 1), (6, 0), (7, 1), (9, 0), (10, 1), (10, 0), (11, 0), (13, 1), (16, 1), (17, 0),
          (19, 0), (20, 0), (22, 1), (23, 1), (25, 0), (32, 0), (32, 0), (34, 0), (35, 0)]  # fmt: skip


DAY = 86_400


def curve_of(seconds, ended):
    """The curve of durations in any order."""
    order = np.lexsort((~ended, seconds))
    return kaplan_meier(seconds[order], ended[order])


def test_kaplan_meier_of_freireich_1963():
    """Published survival after 10 weeks 0.753, after 23 weeks 0.448; median 23 weeks; no 75th percentile."""
    curve = curve_of(np.array([w for w, _ in SIX_MP]) * DAY, np.array([e for _, e in SIX_MP], dtype=bool))
    at = dict(zip(curve.days.tolist(), curve.survival.tolist(), strict=True))
    assert at[10.0] == pytest.approx(0.7529, abs=5e-5)
    assert at[23.0] == pytest.approx(0.4482, abs=5e-5)
    assert (curve.quantile(0.5), curve.quantile(0.75)) == (23.0, None)


@pytest.mark.parametrize("block", seeds(3, 10))
def test_kaplan_meier_agrees_with_lifelines(block):
    """150 random histories, 500 with the slow ones, with ties and censoring, to 1e-9."""
    for seed in range(50 * block, 50 * block + 50):
        random = np.random.default_rng(seed)
        days = random.integers(1, 30, size=random.integers(2, 80))
        ended = random.random(len(days)) < 0.7
        ended[0] = True
        fitted = KaplanMeierFitter().fit(days, ended)
        curve = curve_of(days * DAY, ended)
        last = dict(zip(curve.days.tolist(), curve.survival.tolist(), strict=True))
        expected = fitted.survival_function_at_times(list(last)).to_numpy()
        assert np.abs(np.array(list(last.values())) - expected).max() <= 1e-9, seed
        for q in (0.5, 0.75):
            time = qth_survival_times(1 - q + 1e-12, fitted.survival_function_)
            assert curve.quantile(q) == (None if np.isinf(time) else time), seed
        edges = np.array([0.0, 4.5, 12.0, 31.0])
        survived = fitted.survival_function_at_times(edges).to_numpy()
        assert curve.leaving(edges) == pytest.approx(-np.diff(survived), abs=1e-9), seed


def test_a_median_is_the_first_day_on_which_half_are_left():
    """Of four stays that end after 1, 2, 3 and 4 days a half is left after exactly two; a censored one moves it on."""
    spent = np.array([1, 2, 3, 4]) * DAY_SECONDS
    assert kaplan_meier(spent, np.array([True, True, True, True])).quantile(0.5) == 2
    assert kaplan_meier(spent, np.array([False, True, True, True])).quantile(0.5) == 3
    assert kaplan_meier(spent, np.array([True, False, False, False])).quantile(0.5) is None


@given(st.integers(1, 500).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))))
def test_wilson_agrees_with_statsmodels(pair):
    """Ruling 20. Worked example: 81 of 263 gives 0.2553 to 0.3662 (Newcombe, Statistics in Medicine 17, 1998, table I)."""
    low, high = proportion_confint(*pair, method="wilson")
    found = wilson(*pair)
    assert (found.low, found.high) == pytest.approx((low, high), abs=1e-12)
    newcombe = wilson(81, 263)
    assert (round(newcombe.low, 4), round(newcombe.high, 4)) == (0.2553, 0.3662)
    assert wilson(0, 0) is None
    assert wilson(5, 4) is None
