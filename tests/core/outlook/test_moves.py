"""Stays and daily rates: worked examples, and the estimate of Aalen and Johansen."""

from datetime import timedelta

import numpy as np
import pytest
from lifelines import AalenJohansenFitter

from tests.support.outlook_books import HISTORIES, REFERENCE, TODAY
from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.outlook.chance_by_age import chance_by_age, chance_of_new_stays
from wise_tally.core.outlook.moves import (
    AGES,
    ObservedStays,
    Weights,
    age_classes,
    daily_rates,
    observed_stays,
    whole_days,
)

PLAIN = Weights(1, 0.0, 0.0)


WON, LOST = 2, 3


def rates_of(weights, histories=HISTORIES):
    book = book_of(histories, REFERENCE)
    seen = observed_stays(book, midnight_ending(TODAY, "UTC"), 0)
    return daily_rates(seen, REFERENCE.rules_on(TODAY), weights)


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
    seen = ObservedStays((FIRST, SECOND), np.zeros((2, 5, AGES)))
    rates = daily_rates(seen, REFERENCE.rules_on(TODAY), Weights())
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
    seen = observed_stays(book_of(histories, REFERENCE), midnight_ending(TODAY, "UTC"), 0)
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
