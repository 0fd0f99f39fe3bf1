"""The outlook: its worked examples, outside sources for each step, and that it reads nothing of a later day."""

from dataclasses import fields, replace
from datetime import date, timedelta
from itertools import product
from math import exp, log

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lifelines import AalenJohansenFitter
from scipy.stats import poisson
from statsmodels.stats.meta_analysis import combine_effects

from tests.support.random_world import random_world
from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of, day, reference
from wise_tally.core.book import Book
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.amounts import ratio_at_winning
from wise_tally.core.outlook.back_test import Guess, Look, RollingTest, crps
from wise_tally.core.outlook.chance_by_age import chance_by_age, chance_of_new_stays
from wise_tally.core.outlook.combine import Weighing, weighing
from wise_tally.core.outlook.common_shock import common_shock
from wise_tally.core.outlook.corrections import (
    Corrections,
    bands_of_equal_money,
    chance_of,
    close_class,
    log_odds,
    shrunken,
)
from wise_tally.core.outlook.distribution import MayBeWon, outcome_of, what_if_won
from wise_tally.core.outlook.fit import chances, fit
from wise_tally.core.outlook.moves import AGES, StaysSeen, Weights, age_classes, daily_rates, stays_seen, whole_days
from wise_tally.core.outlook.reference_class import reference_class
from wise_tally.core.outlook.rows import days_ahead, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.standings import Past, landmarks, past_standings, slips_so_far
from wise_tally.core.outlook.still_to_come import NOTHING_TO_COME, StillToCome, arrivals_a_day, still_to_come
from wise_tally.core.outlook.trust import CORRECTED, FEW, OUTLOOK, WEIGHTED, last_days, trust

PLAIN = Weights(1, 0.0, 0.0)
WON, LOST = 2, 3
MARCH = day("2026-03-01")


def after(days):
    return MARCH + timedelta(days=days)


# Stays of the worked examples: in Offer won after 2, lost after 3, won after 5, two running for 4 days; in Enquiry on to Offer after 1
# (so that this Offer runs for 4), lost after 2. Times are those of the day that ends on 11 March.
HISTORIES = [
    [(after(0), SECOND, 100, None), (after(2), IS_WON, 100, None)],
    [(after(0), SECOND, 100, None), (after(3), IS_LOST, 100, None)],
    [(after(0), SECOND, 100, None), (after(5), IS_WON, 100, None)],
    [(after(7), SECOND, 100, None)],
    [(after(6), FIRST, 100, None), (after(7), SECOND, 100, None)],
    [(after(6), FIRST, 100, None), (after(8), IS_LOST, 100, None)],
]
TODAY = after(10)
GROUND = reference(probability_bp=(2_000, 5_000), typical_days=(10, 10))


def rates_of(weights, histories=HISTORIES):
    book = book_of(histories, GROUND)
    seen = stays_seen(book, midnight_ending(TODAY, "UTC"), 0)
    return daily_rates(seen, GROUND.rules_on(TODAY), weights)


def test_rates_of_single_days_are_occurrence_over_exposure():
    rates = rates_of(PLAIN)
    assert rates[SECOND, WON, 2] == pytest.approx(1 / 5)
    assert rates[SECOND, LOST, 3] == pytest.approx(1 / 4)
    assert rates[SECOND, WON, 5] == pytest.approx(1)
    assert rates[SECOND].sum() == pytest.approx(1 / 5 + 1 / 4 + 1)
    new_stay = chance_of_new_stays(rates, 6)
    assert new_stay[SECOND, [2, 5]] == pytest.approx([0.2, 0.8])
    assert new_stay[FIRST, [3, 6]] == pytest.approx([0.1, 0.4])
    assert chance_by_age(rates, (3,))[0, SECOND, [2, 0, 3]] == pytest.approx([0.75, 0.2, 1.0])


def test_what_is_set_weighs_ten_exits_a_stage():
    rates = rates_of(Weights())
    # Exposure in the source counts the day of the exit; 23 and 5 days.
    assert rates[SECOND, [WON, LOST], 0] == pytest.approx([0.066740, 0.047046], abs=5e-7)
    assert rates[FIRST, [SECOND, LOST], 0] == pytest.approx([0.063248, 0.080342], abs=5e-7)


def test_with_nothing_seen_the_rates_are_those_set():
    seen = StaysSeen((FIRST, SECOND), np.zeros((2, 5, AGES)))
    rates = daily_rates(seen, GROUND.rules_on(TODAY), Weights())
    assert rates[FIRST, [SECOND, LOST], 5] == pytest.approx([0.04, 0.06])
    assert rates[SECOND, [WON, LOST], 5] == pytest.approx([0.05, 0.05])
    assert chance_of_new_stays(rates, 30)[:, 30] == pytest.approx([0.168715, 0.480924], abs=5e-7)
    assert chance_by_age(rates, (9, 30))[1, :, 0] == pytest.approx([0.166087, 0.478804], abs=5e-7)


def test_an_age_class_closes_with_its_tenth_exit_and_a_thin_last_one_joins():
    exits = np.zeros(AGES)
    exits[[1, 3, 9, 30]] = [6, 4, 10, 9]
    assert age_classes(exits, 10).tolist() == [0, 4]
    exits[40] = 1
    assert age_classes(exits, 10).tolist() == [0, 4, 10]
    assert whole_days([43_199, 43_200, 10**9]).tolist() == [0, 1, 720]


def test_a_stay_that_reaches_the_cap_is_no_exit_and_one_begun_before_the_look_back_joins_late():
    long_ago = TODAY - timedelta(days=900)
    histories = [
        [(long_ago, SECOND, 100, None), (long_ago + timedelta(days=800), IS_WON, 100, None)],
        [(long_ago, SECOND, 100, None), (long_ago + timedelta(days=200), IS_WON, 100, None)],
    ]
    seen = stays_seen(book_of(histories, GROUND), midnight_ending(TODAY, "UTC"), 0)
    # The look-back begins on the 171st day of either stay; the first ends 100 days before the cut.
    assert seen.at_risk[SECOND, [0, 171, 172, 200, 201, 720]].tolist() == [0, 0, 2, 2, 1, 1]
    assert seen.exits[SECOND, WON, [200, 720]].tolist() == [1, 0]


@pytest.mark.filterwarnings("ignore")
def test_without_smoothing_it_is_the_estimate_of_aalen_and_johansen():
    """Source: lifelines 0.30, AalenJohansenFitter, one stage with two ways out; ties there are jittered by 1e-4 or so."""
    random = np.random.default_rng(7)
    lasts, ways = random.integers(1, 40, 300), random.choice([0, 1, 2], 300)
    first = TODAY - timedelta(days=60)
    histories = [
        [(first if way else TODAY - timedelta(days=int(last) - 1), SECOND, 100, None)]
        + ([(first + timedelta(days=int(last)), (IS_WON, IS_LOST)[way - 1], 100, None)] if way else [])
        for last, way in zip(lasts.tolist(), ways.tolist(), strict=True)
    ]
    found = chance_of_new_stays(rates_of(PLAIN, histories), 45)[SECOND]
    fitted = AalenJohansenFitter(jitter_level=1e-6, seed=1, calculate_variance=False)
    # Who still runs on a day was at risk on it.
    fitted.fit(np.where(ways == 0, lasts + 0.4, lasts), ways, event_of_interest=1)
    known = fitted.cumulative_density_.iloc[:, 0]
    for days in (5, 12, 20, 33, 40):
        assert found[days] == pytest.approx(float(known[known.index <= days + 0.5].iloc[-1]), abs=2e-4), days


def test_the_convolution_is_what_a_hundred_thousand_draws_give():
    """Source: simulation of the same rates, with moves back and stays of less than a day."""
    rates = np.zeros((2, 4, AGES))
    rates[0, 1, :], rates[0, LOST, :] = 0.08, 0.04
    rates[0, 1, 0] = 0.3
    rates[1, 0, :], rates[1, WON, 3:], rates[1, LOST, :] = 0.02, 0.10, 0.03
    random, horizon, many = np.random.default_rng(11), 25, 100_000
    stage, age, left = np.zeros(many, dtype=int), np.zeros(many, dtype=int), np.full(many, horizon)
    won, runs = np.zeros(many, dtype=bool), np.ones(many, dtype=bool)
    while runs.any():
        at = np.flatnonzero(runs)
        draw, edges = random.random(len(at)), np.cumsum(rates[stage[at], :, age[at]], axis=1)
        goes = (draw[:, None] >= edges).sum(axis=1)
        won[at[goes == WON]] = True
        runs[at[(goes == WON) | (goes == LOST)]] = False
        moved = at[goes < 2]
        stage[moved], age[moved] = goes[goes < 2], 0
        stayed = at[goes == 4]
        age[stayed] += 1
        left[stayed] -= 1
        runs[left < 0] = False
    assert chance_of_new_stays(rates, horizon)[0, horizon] == pytest.approx(won.mean(), abs=0.005)


def test_levels_are_shrunk_by_the_variance_between_them():
    """The worked example; the variance as statsmodels 0.15 has it (DerSimonian and Laird), with other precisions too."""
    shift, variance = shrunken(np.array([1.0, -1.0, 0.0]), np.full(3, 10.0))
    assert (shift.tolist(), variance) == (pytest.approx([0.9, -0.9, 0.0]), pytest.approx(0.9))
    effect, precision = np.array([0.8, -0.4, 0.1, 1.2]), np.array([4.0, 9.0, 20.0, 2.0])
    known = combine_effects(effect, 1 / precision, method_re="dl")
    shift, variance = shrunken(np.r_[effect, 5.0], np.r_[precision, 0.0])
    assert variance == pytest.approx(known.tau2)
    around = effect - (precision * effect).sum() / precision.sum()
    assert shift == pytest.approx([*(around * variance / (variance + 1 / precision)), 0.0])
    assert shrunken(np.array([0.1, -0.1]), np.full(2, 10.0))[0].tolist() == [0, 0]


def test_log_odds_turn_back_into_chances():
    chance = np.array([0.001, 0.2, 0.5, 0.97])
    assert chance_of(log_odds(chance)) == pytest.approx(chance)
    assert log_odds(np.array([0.5, 0.75])) == pytest.approx([0.0, log(3)])


def test_classes_of_close_dates_and_bands_of_equal_money():
    days = np.array([-30, -29, 0, 1, 45, 46, 91, 92, 121, 122, np.nan])
    assert close_class(days, 91).tolist() == [0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 6]
    assert bands_of_equal_money(np.array([10, 10, 10, 10, 40, 20])).tolist() == [10, 10, 20, 40]
    assert Corrections(centre=log(100), scale=1.0).size_of(np.array([0, 100, 10**9])).tolist() == [-3, 0, 5]


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


def test_the_shock_is_what_landmarks_vary_beyond_chance():
    standing = past_standings(book_of(HISTORIES, GROUND), TODAY, 1).standing
    rows = np.zeros(40, dtype=np.int64)
    past = Past(standing.take(rows), np.repeat([14, 28], 20), np.r_[np.ones(20, dtype=bool), np.zeros(20, dtype=bool)])
    v = 20 * 0.25
    beyond = ((20 - 10) ** 2 - v + (0 - 10) ** 2 - v) / (2 * v * v)
    quarters = 2 * 14 / 91
    assert common_shock(past, np.full(40, 0.5)) == pytest.approx(
        ((quarters * beyond + 2 * 0.04) / (quarters + 2)) ** 0.5
    )
    assert common_shock(past.take(rows[:0]), np.zeros(0)) == 0.25


def won_after(days, ended):
    """A deal that was won so many days after its creation, on a day."""
    return [(ended - timedelta(days=days), FIRST, 100, None), (ended, IS_WON, 100, None)]


def test_still_to_come_places_past_wins_in_the_days_ahead():
    """(20 + 10 + 5) ÷ 365 of wins that took 10, 20, 25 and 40 days; recent arrivals change the pace between a half and twice."""
    old = [(TODAY - timedelta(days=400), FIRST, 100, None), (TODAY - timedelta(days=399), IS_LOST, 100, None)]
    book = book_of([old, *(won_after(days, TODAY - timedelta(days=60)) for days in (10, 20, 25, 40))], GROUND)
    cut = midnight_ending(TODAY, "UTC")
    found = still_to_come(book, cut, 30)
    ago = np.array([400, 70, 80, 85, 100]) + 1.0
    ratio = arrivals_a_day(ago, 401.0, cut / 86_400, 30) / (4 / 365)
    assert 0.5 < ratio < 2
    assert found.number == pytest.approx((20 + 10 + 5) / 365 * ratio)
    assert found.mean_minor == pytest.approx(found.number * 100)
    assert still_to_come(book, cut, 30, before=15).number == pytest.approx((20 + 10 + 5 - 5) / 365 * ratio)
    # By hand: the weights of the arrivals over those of each day since the book began.
    weight = lambda days: 0.5 ** (days / 120)  # noqa: E731
    days = np.arange(0.5, 401)
    assert ratio == pytest.approx(weight(ago).sum() / weight(days).sum() / (4 / 365))


def test_the_amount_at_winning_is_compared_with_the_middle_of_each_stay():
    raised = [(after(0), SECOND, 100, None), (after(3), SECOND, 300, None), (after(10), IS_WON, 600, None)]
    found = ratio_at_winning(book_of([raised, HISTORIES[1]], GROUND), midnight_ending(TODAY, "UTC"))
    assert found[SECOND] == pytest.approx((600 + 10 * 300) / (300 + 10 * 300))
    assert found[FIRST] == 1


def test_a_reference_class_counts_stays_not_deals():
    histories = [won_after(9, TODAY - timedelta(days=100 + n)) for n in range(40)]
    histories += [[(TODAY - timedelta(days=130 + n), FIRST, 100, None)] for n in range(20)]
    book, cut = book_of(histories, GROUND), midnight_ending(TODAY, "UTC")
    for age, deals, won in ((3, 60, 40), (8, 60, 40)):
        found = reference_class(book, cut, 30, FIRST, age)
        assert (found.days, len(found.deals), len(found.won), found.or_more) == (age, deals, won, False)
    assert len(reference_class(book, cut, 5, FIRST, 3).won) == 0
    beyond = reference_class(book, cut, 30, FIRST, 12)
    assert (beyond.days, len(beyond.deals), beyond.or_more) == (9, 60, True)
    assert not reference_class(book, cut, 30, SECOND, 0).enough


def worked(seed):
    """A firm made up from a seed: some hundred deals over three years, that move on, back, are won and lost."""
    random = np.random.default_rng(seed)
    histories = []
    for _ in range(400):
        at, stage = date(2024, 1, 1) + timedelta(days=int(random.integers(0, 900))), FIRST
        amount = int(random.lognormal(9, 1))
        states = [(at, stage, amount, at + timedelta(days=40))]
        while stage in (FIRST, SECOND):
            at += timedelta(days=int(random.integers(1, 35)))
            stage = int(
                random.choice([SECOND, IS_LOST] if stage == FIRST else [FIRST, IS_WON, IS_WON, IS_LOST, SECOND])
            )
            amount = int(amount * random.uniform(0.8, 1.2)) or 1
            states.append((at, stage, amount, at + timedelta(days=30)))
        histories.append([*states, int(random.integers(0, 3))])
    return book_of(histories, reference(("ann", "bob", "cy"), probability_bp=(3_000, 6_000)))


def cut_at(book, moment):
    """The book of what had happened before a moment."""
    kept = np.flatnonzero(book.revisions.effective_at < moment)
    rev = book.revisions.take(kept)
    known, place = np.unique(rev.deal, return_inverse=True)
    columns = {one.name: getattr(book.deals, one.name) for one in fields(book.deals)}
    deals = replace(
        book.deals,
        **{
            name: tuple(column[i] for i in known) if name == "key" else column[known]
            for name, column in columns.items()
        },
    )
    return Book(
        book.reference, deals, replace(rev, deal=place.astype(np.int64)), book.credits, attributes=book.attributes
    )


@pytest.mark.parametrize("seed", range(3))
def test_nothing_of_a_later_day_is_read(seed):
    book, quarter = worked(seed), GROUND.fiscal.parse("FY2026-Q1")
    for as_of in (date(2025, 12, 31), date(2026, 1, 30), date(2025, 3, 3)):
        then = cut_at(book, midnight_ending(as_of, "UTC"))
        seen, known = of_deals(book, book.as_of(as_of), quarter), of_deals(then, then.as_of(as_of), quarter)
        assert seen.chance.tolist() == known.chance.tolist()
        assert seen.expected_minor.tolist() == known.expected_minor.tolist()
        assert seen.to_come_minor.tolist() == known.to_come_minor.tolist()
        assert seen.until.shock == known.until.shock
        assert trust(book, book.as_of(as_of), quarter, Filter()) == trust(then, then.as_of(as_of), quarter, Filter())


@pytest.mark.parametrize("seed", range(4))
def test_parts_add_up_to_the_whole_in_the_mean(seed):
    """By every breakdown of a random workspace, people with their shares included; a filter keeps its part."""
    book = random_world(seed, 120).book()
    snapshot, year = book.as_of(date(2025, 3, 3)), book.reference.fiscal.parse("FY2025")
    whole = outlook_rows(book, snapshot, year, Filter(), "company")[0]
    of_each = of_deals(book, snapshot, year)
    assert of_each.to_come_minor.sum() == pytest.approx(of_each.to_come.mean_minor, abs=1)
    asked = stakes_of(
        book, forecast_lines(book, snapshot, year, Filter(), "company"), of_deals(book, snapshot, year)
    ).asked
    assert (asked.won_minor, asked.mean_minor) == (whole.won, pytest.approx(whole.mean, abs=len(snapshot.deal)))
    for by in ("person", "source", "deal_type", "process"):
        rows = outlook_rows(book, snapshot, year, Filter(), by).values()
        for name in ("won", "open_by_chance", "still_to_come", "mean"):
            assert sum(getattr(row, name) for row in rows) == getattr(whole, name), (by, name)
    people = outlook_rows(book, snapshot, year, Filter(), "person")
    assert outlook_rows(book, snapshot, year, Filter(person=0), "company")[0].mean == people[0].mean


def test_a_later_period_is_what_is_won_by_its_end_less_what_is_won_before():
    book, fiscal = worked(1), GROUND.fiscal
    snapshot = book.as_of(date(2026, 1, 30))
    this, both, following = (fiscal.parse(one) for one in ("FY2026-Q1", "2026-01-01/2026-06-30", "FY2026-Q2"))
    assert days_ahead(snapshot, following) == (60, 151)
    first, second, together = (of_deals(book, snapshot, one) for one in (this, following, both))
    assert first.chance + second.chance == pytest.approx(np.maximum(together.chance, first.chance))
    assert first.to_come.number + second.to_come.number == pytest.approx(together.to_come.number, rel=0.2)


def test_what_leads_follows_from_what_was_decided_and_how_the_last_days_went():
    book, fiscal = worked(0), GROUND.fiscal

    def on(as_of, whose=book, beaten_by=""):
        return trust(whose, whose.as_of(as_of), fiscal.containing(as_of, "quarter"), Filter(), beaten_by)

    days = (date(2024, 2, 11), date(2024, 3, 12), date(2024, 7, 10), date(2026, 1, 15))
    assert [on(one).leads for one in days] == [WEIGHTED, FEW, OUTLOOK, CORRECTED]
    assert [on(one).shown for one in days] == [False, True, True, True]
    assert [on(one).decided for one in days] == [4, 20, 83, 312]
    assert on(date(2026, 1, 15), beaten_by="run_rate").leads == WEIGHTED
    assert [bool(fit(book, one, 75).corrections.shifts) for one in days] == [False, False, False, True]
    assert on(date(2024, 6, 30)).over
    # Nothing moves in the last days: the past does not repeat.
    still = cut_at(book, midnight_ending(date(2025, 4, 12), "UTC"))
    found = on(date(2025, 5, 21), still)
    assert (found.leads, found.shown) == (WEIGHTED, True)
    assert found.last_days == last_days(still, date(2025, 5, 21), 40)
    assert (found.last_days.won, found.last_days.off_by < -2) == (0, True), found.last_days


def test_submitted_and_outlook_are_weighed_by_their_past_errors():
    found = weighing([(100, 80, 60)] * 10 + [(40, 60, 60)] * 10)
    assert (found.factor, found.weight) == (pytest.approx(0.897959, abs=1e-6), pytest.approx(0.4592, abs=1e-4))
    assert found.of(0, 8_000, 9_000) == 8_166
    assert weighing([(100, 80, 60)] * 7) == Weighing(7, 1.0, 0.0)
    assert weighing([]).of(100, 500, 900) == 900


def test_a_score_is_the_area_between_forecast_and_outcome():
    """Of a certain number its absolute error; of a fair coin between 0 and 1 000 by hand, ∫ ¼ each side."""
    coin = outcome_of(MayBeWon(0, np.array([1_000.0]), np.array([0.5]), NOTHING_TO_COME, 0.0))
    for came, score in ((0, 250), (1_000, 250), (400, 250), (1_500, 750), (-100, 350)):
        assert crps(coin, came) == pytest.approx(score, abs=1), came
    sure = outcome_of(MayBeWon(700, np.zeros(0), np.zeros(0), NOTHING_TO_COME, 0.0))
    assert [crps(sure, came) for came in (700, 650, 900)] == pytest.approx([0, 50, 200], abs=1)


def test_scores_over_looks_are_shares_of_what_was_won():
    period = GROUND.fiscal.parse("FY2026-Q1")

    def look(came, mean, p10, p90, chance, won):
        guesses = dict.fromkeys(("weighted", "actual", "run_rate"), Guess(2 * came, 0, came - 1, came))
        return Look(period, MARCH, "at its start", came, {**guesses, "outlook": Guess(mean, p10, p90, 10.0)},
                    dict.fromkeys(("weighted", "actual", "outlook"), np.array(chance)), np.array(won))  # fmt: skip

    test = RollingTest((look(100, 120, 90, 130, [0.2, 0.9], [False, True]), look(300, 260, 270, 320, [0.25], [True])))
    score = test.score("outlook")
    assert (score.error, score.bias) == (pytest.approx(60 / 400), pytest.approx(-20 / 400))
    assert (score.crps, score.coverage) == (10.0, 1.0)
    assert score.brier == pytest.approx((0.2**2 + 0.1**2 + 0.75**2) / 3)
    assert test.score("run_rate").brier is None
    tenth = test.reliability("outlook")[2]
    assert (tenth.deals, tenth.mean_chance, tenth.won, tenth.rate) == (2, pytest.approx(0.225), 1, 0.5)
    assert not test.enough
    assert landmarks(book_of(HISTORIES, GROUND), midnight_ending(TODAY, "UTC"), 30).tolist() == []
    assert slips_so_far(worked(0)).max() > 2
    assert fit(worked(0), date(2025, 6, 1), 30).horizon == 30
    assert chances(worked(0), worked(0).as_of(date(2025, 6, 1)), fit(worked(0), date(2025, 6, 1), 30)).chance.max() < 1
