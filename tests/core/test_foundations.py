"""Money, calendar, trees and statistics against published sources, and properties that always hold."""

from datetime import date, datetime
from itertools import product
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lifelines import KaplanMeierFitter
from lifelines.utils import qth_survival_times
from scipy import stats
from statsmodels.stats.proportion import proportion_confint

from wise_tally.core.calendar import FiscalCalendar, local_days, midnight_ending
from wise_tally.core.errors import AmountOverflow, TreeLoop, UnknownPeriod
from wise_tally.core.money import apportion, credited_parts, divide_half_even, sum_by_group, weighted_minor
from wise_tally.core.outcome import grid_step, outcome, outcome_either_way
from wise_tally.core.statistics import kaplan_meier, wilson
from wise_tally.core.trees import Tree, loop_on_any_date

# The 1790 census populations for apportionment and the 120 seats that Hamilton's bill (vetoed in 1792) gave.
# Source: Balinski and Young, Fair Representation (1982), table 1; from memory.
CENSUS_1790 = {
    "Connecticut": (236_841, 8), "Delaware": (55_540, 2), "Georgia": (70_835, 2), "Kentucky": (68_705, 2),
    "Maryland": (278_514, 9), "Massachusetts": (475_327, 16), "New Hampshire": (141_822, 5),
    "New Jersey": (179_570, 6), "New York": (331_589, 11), "North Carolina": (353_523, 12),
    "Pennsylvania": (432_879, 14), "Rhode Island": (68_446, 2), "South Carolina": (206_236, 7),
    "Vermont": (85_533, 3), "Virginia": (630_560, 21),
}  # fmt: skip
# Weeks of remission in the 6-MP arm. Source: Freireich et al., Blood 21 (1963), 699–716.
SIX_MP = [(6, 1), (6, 1), (6, 1), (6, 0), (7, 1), (9, 0), (10, 1), (10, 0), (11, 0), (13, 1), (16, 1), (17, 0),
          (19, 0), (20, 0), (22, 1), (23, 1), (25, 0), (32, 0), (32, 0), (34, 0), (35, 0)]  # fmt: skip
DAY = 86_400


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


def test_iso_weeks_of_the_standard():
    """ISO 8601's own examples: 2008-12-29 is 2009-W01, 2010-01-03 is 2009-W53 (from memory)."""
    calendar = FiscalCalendar(1)
    assert calendar.containing(date(2008, 12, 29), "week").text == "2009-W01"
    assert calendar.containing(date(2010, 1, 3), "week").text == "2009-W53"
    with pytest.raises(UnknownPeriod, match=r"Use one of|Choose|next to"):
        calendar.parse("2026-W54")


def test_fiscal_years_as_published():
    """U.S. federal year: FY2026 runs from 1 October 2025 (31 U.S.C. 1102)."""
    federal = FiscalCalendar(10).parse("FY2026")
    assert (federal.starts_on, federal.ends_on) == (date(2025, 10, 1), date(2026, 9, 30))
    quarter = FiscalCalendar(4).parse("FY2026-Q4")
    assert (quarter.starts_on, quarter.ends_on) == (date(2026, 1, 1), date(2026, 3, 31))
    assert FiscalCalendar(1).parse("FY2026-M02").ends_on == date(2026, 2, 28)


@given(
    st.integers(1, 12),
    st.dates(date(1950, 1, 1), date(2150, 1, 1)),
    st.sampled_from(["year", "quarter", "month", "week"]),
)
def test_periods_tile_the_calendar(start_month, day, kind):
    calendar = FiscalCalendar(start_month)
    period = calendar.containing(day, kind)
    assert period.starts_on <= day <= period.ends_on
    assert (calendar.shifted(period, 1).starts_on - period.ends_on).days == 1
    assert calendar.shifted(calendar.shifted(period, 3), -3) == period == calendar.parse(period.text)


@pytest.mark.parametrize(
    "text", ["FY26", "FY2026-Q5", "FY2026-M13", "Q1", "2026-02-30/2026-03-01", "2026-03-02/2026-03-01", ""]
)
def test_what_is_no_period_says_what_is_accepted(text):
    with pytest.raises(UnknownPeriod, match=r"FY2026|before it starts"):
        FiscalCalendar(4).parse(text)


@given(
    st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)),
    st.sampled_from(["Europe/Dublin", "America/Sao_Paulo", "Asia/Kolkata"]),
)
def test_local_days_agree_with_the_zone_database(naive_moment, zone):
    """Ruling 1: as of D is strictly before the local midnight that ends D."""
    moment = naive_moment.replace(microsecond=0, tzinfo=ZoneInfo("UTC"))
    day = moment.astimezone(ZoneInfo(zone)).date()
    seconds = int(moment.timestamp())
    assert local_days(np.array([seconds]), zone)[0] == day.toordinal()
    assert seconds < midnight_ending(day, zone)


def test_trees_refuse_loops_on_any_date():
    with pytest.raises(TreeLoop, match="below itself"):
        _ = Tree((1, 0)).paths
    assert loop_on_any_date([[(0, -1), (10, 1)], [(0, 0), (10, -1)]]) is None
    assert loop_on_any_date([[(0, -1), (10, 1)], [(0, 0)]]) is not None
    direct = np.array([[1], [2], [4]])
    assert Tree((-1, 0, 1)).roll_up(direct).ravel().tolist() == [7, 6, 4]


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


@pytest.mark.parametrize("block", range(10))
def test_kaplan_meier_agrees_with_lifelines(block):
    """500 random histories with ties and censoring, to 1e-9."""
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


def test_outcome_of_equal_amounts_is_poisson_binomial():
    """Ruling 17, against scipy's Poisson-binomial, also where large halves are joined by FFT."""
    probability = np.linspace(100, 9_900, 90).astype(int)
    found = outcome(0, np.full(90, 12_345), probability)
    assert found.step_minor == 12_345
    expected = stats.poisson_binom(probability / 10_000).pmf(np.arange(91))
    assert found.probability == pytest.approx(expected, abs=1e-12)
    wide = outcome(0, np.arange(1, 91) * 1_000 + 1, probability)
    assert wide.probability.sum() == pytest.approx(1, abs=1e-9)


def test_outcome_equals_all_subsets():
    """Brute force over all subsets of ten deals; the mean is exact, quantiles the smallest with enough behind them."""
    random = np.random.default_rng(7)
    amount, probability = random.integers(1, 400, 10) * 25, random.integers(0, 10_001, 10)
    found = outcome(5_000, amount, probability)
    exact = {}
    for wins in product((0, 1), repeat=10):
        chance = np.prod([p / 1e4 if w else 1 - p / 1e4 for w, p in zip(wins, probability, strict=True)])
        total = 5_000 + int(np.dot(wins, amount))
        exact[total] = exact.get(total, 0) + chance
    for quota in (0, 20_000, 40_000):
        assert found.chance_of(quota) == pytest.approx(sum(c for t, c in exact.items() if t >= quota), abs=1e-12)
    running = 0.0
    for total in sorted(exact):
        running += exact[total]
        if running >= 0.5 - 1e-12:
            assert found.quantile(0.5) == total
            break
    assert found.mean_minor == round_fraction(5_000 * 10_000 + int(np.dot(amount, probability)), 10_000)


def test_chances_with_and_without_a_deal_equal_certain_outcomes():
    """Winning a deal for sure, or losing it, gives the same chance as the distribution with its probability at 1 or 0."""
    random = np.random.default_rng(3)
    amount, probability = random.integers(1, 300, 60) * 100, random.integers(0, 10_001, 60)
    places, quota = [5, 17, 40], 400_000
    both = outcome_either_way(10_000, amount, probability, places, quota)
    assert both.whole.probability == pytest.approx(outcome(10_000, amount, probability).probability, abs=1e-12)
    found = both.chances
    for place, pair in zip(places, found, strict=True):
        for certain, chance in zip((10_000, 0), pair, strict=True):
            changed = probability.copy()
            changed[place] = certain
            assert chance == pytest.approx(outcome(10_000, amount, changed).chance_of(quota), abs=1e-12)
        assert pair[0] >= pair[1]


def test_the_grid_step_follows_the_ruling():
    assert grid_step(np.array([])) == 1
    assert grid_step(np.array([0, 700, 300])) == 100
    assert grid_step(np.array([10**9 + 1, 10**9])) == 50_000
    assert outcome(0, np.array([10**9 + 1, 10**9]), np.array([10_000, 5_000])).quantile(0.9) == 2 * 10**9
