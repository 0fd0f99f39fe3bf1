"""The back-test looks at each day as it stood; its scores against another implementation."""

from collections import defaultdict
from datetime import date

import numpy as np
import pytest
from sklearn.metrics import brier_score_loss

from tests.support.random_world import random_world
from wise_tally.core.backtest import back_test, brier, checkpoints
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.observed_weight import look_back_of, observed_probabilities

AS_OF = date(2025, 11, 20)


SCOPE = Filter(process=0)


def test_brier_score_is_that_of_scikit_learn():
    random = np.random.default_rng(5)
    for size in (1, 7, 400):
        chance, won = random.random(size), random.integers(0, 2, size).astype(bool)
        assert brier(chance, won) == pytest.approx(brier_score_loss(won, chance, labels=[False, True]), abs=1e-12)


@pytest.mark.parametrize("seed", range(3))
def test_each_guess_is_the_forecast_of_its_day(seed):
    """With actual rates it never uses a deal decided later."""
    world = random_world(seed + 40, 120)
    book = world.book()
    snapshot = book.as_of(AS_OF)
    quarters = tuple(
        book.reference.fiscal.shifted(book.reference.fiscal.containing(AS_OF, "quarter"), -s) for s in (1, 2, 3)
    )
    found = back_test(book, snapshot, quarters, SCOPE)
    assert [g.period for g in found.guesses] == [q for q in quarters for _ in range(3)]
    squares = defaultdict(list)
    for guess in found.guesses:
        then = book.as_of(guess.on)
        assert guess.on in checkpoints(guess.period)
        assert guess.as_set == forecast(book, then, guess.period, SCOPE, "company")[0].weighted
        assert guess.won == forecast(book, snapshot, guess.period, SCOPE, "company")[0].won
        observed = observed_probabilities(book, then, guess.period)
        assert observed.look_back == look_back_of(guess.period)
        for at in range(len(then.deal)):
            if (
                then.kind[at]
                or not guess.period.starts_on.toordinal() <= then.expected_close[at] <= guess.period.ends_on.toordinal()
            ):
                continue
            now = snapshot.kind[np.searchsorted(snapshot.deal, then.deal[at])]
            if now and book.reference.categories[then.category[at]].counted:
                squares[int(then.stage[at])].append((then.probability_bp[at] / 10_000 - (now == 1)) ** 2)
    assert {s.stage: (s.deals, pytest.approx(s.as_set)) for s in found.scores} == {
        stage: (len(values), np.mean(values)) for stage, values in squares.items()
    }
