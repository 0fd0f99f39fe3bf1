"""Scores of the rolling back-test, by hand."""

from datetime import date

import numpy as np
import pytest

from tests.support.outlook_books import HISTORIES, MARCH, REFERENCE, TODAY, worked
from tests.support.small_books import book_of
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.outlook.back_test import Guess, Look, RollingTest, crps
from wise_tally.core.outlook.distribution import MayBeWon, outcome_of
from wise_tally.core.outlook.fit import chances, fit
from wise_tally.core.outlook.open_deal_states import landmarks, slips_so_far
from wise_tally.core.outlook.still_to_come import NOTHING_TO_COME


def test_a_score_is_the_area_between_forecast_and_outcome():
    """Of a certain number its absolute error; of a fair coin between 0 and 1 000 by hand, ∫ ¼ each side."""
    coin = outcome_of(MayBeWon(0, np.array([1_000.0]), np.array([0.5]), NOTHING_TO_COME, 0.0))
    for came, score in ((0, 250), (1_000, 250), (400, 250), (1_500, 750), (-100, 350)):
        assert crps(coin, came) == pytest.approx(score, abs=1), came
    sure = outcome_of(MayBeWon(700, np.zeros(0), np.zeros(0), NOTHING_TO_COME, 0.0))
    assert [crps(sure, came) for came in (700, 650, 900)] == pytest.approx([0, 50, 200], abs=1)


def test_scores_over_looks_are_shares_of_what_was_won():
    period = REFERENCE.fiscal.parse("FY2026-Q1")

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
    assert landmarks(book_of(HISTORIES, REFERENCE), midnight_ending(TODAY, "UTC"), 30).tolist() == []
    assert slips_so_far(worked(0)).max() > 2
    assert fit(worked(0), date(2025, 6, 1), 30).horizon == 30
    assert chances(worked(0), worked(0).as_of(date(2025, 6, 1)), fit(worked(0), date(2025, 6, 1), 30)).chance.max() < 1
