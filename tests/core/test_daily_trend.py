"""The trend in one sweep against one forecast a day, on random workspaces with dated rules, trees and credit."""

from datetime import date, timedelta
from random import Random

import numpy as np
import pytest

from tests.support.random_world import random_world
from wise_tally.core.calendar import Period
from wise_tally.core.daily_trend import trend
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter


@pytest.mark.parametrize("seed", range(8))
def test_each_day_of_the_trend_is_the_forecast_of_that_day(seed):
    book, random = random_world(seed).book(), Random(f"trend{seed}")
    reference, told = book.reference, 0
    for _ in range(4):
        start = date(2024, random.randint(1, 12), random.randint(1, 28))
        end = start + timedelta(days=random.randint(20, 400))
        period = Period(start, end, "span", f"{start}/{end}")
        first = start + timedelta(days=random.randint(-30, 60))
        last = first + timedelta(days=random.randint(0, 300))
        scope = random.choice([Filter(), Filter(team=random.randrange(len(reference.teams))),
                               Filter(person=random.randrange(len(reference.people))),
                               Filter(territory=random.randrange(len(reference.territories)), process=0)])  # fmt: skip
        found = trend(book, period, first, last, scope)
        assert len(found.days) == (last - first).days + 1
        part = first + timedelta(days=len(found.days) // 3)
        alone, of_it = trend(book, period, part, last, scope), found.since(part)
        for name in ("days", "won", "categories", "weighted"):
            assert np.array_equal(getattr(of_it, name), getattr(alone, name)), name
        for place in sorted(random.sample(range(len(found.days)), min(25, len(found.days)))):
            day = date.fromordinal(int(found.days[place]))
            row = forecast(book, book.as_of(day), period, scope, "company")[0]
            assert int(found.won[place]) == row.won, (day, scope)
            assert tuple(found.categories[:, place].tolist()) == row.categories, (day, scope)
            assert int(found.weighted[place]) == row.weighted, (day, scope)
            told += row.weighted > 0
    assert told
