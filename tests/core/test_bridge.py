"""The causes of a bridge add up exactly, for every figure and whatever is counted."""

from datetime import date
from random import Random

import pytest

from tests.support.answers import ask
from tests.support.random_world import AS_OF, PERIOD, random_world, window, world_with_lines
from wise_tally.core.bridge import bridge
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.measures import MEASURES, valued

SEEDS = range(12)


@pytest.mark.parametrize("seed", SEEDS)
def test_bridge_causes_sum_exactly_to_the_difference(seed):
    """Ruling 18, on random pairs of days, scopes and measures; the ends are the forecast's own figures."""
    book = random_world(seed).book()
    random, (start, end, as_of) = Random(f"bridge{seed}"), window(seed)
    for measure in ("weighted", "won", "commit_forecast", "best_case_forecast", "open"):
        since = date(2024, random.randint(1, 12), random.randint(1, 28))
        if since > as_of:
            since, as_of = as_of, since
        scope = random.choice(({}, {"team": "t1"}, {"person": "b"}, {"territory": "x"}, {"process": "p"}))
        rows = ask(book, "bridge", f"{start}/{end}", as_of.isoformat(), since=since, measure=measure, **scope)
        amounts = list(rows.values())
        assert amounts[0] + sum(amounts[1:-1]) == amounts[-1]
        for key, day in (("start", since), ("end", as_of)):
            forecast = ask(book, "forecast", f"{start}/{end}", day.isoformat(), **scope)[""]
            assert rows[key] == forecast[measure], (measure, scope, key)


@pytest.mark.parametrize("seed", range(3))
def test_the_bridge_of_any_measure_goes_from_forecast_to_forecast(seed):
    book = world_with_lines(seed + 30).book()
    period = book.reference.fiscal.parse(PERIOD)
    team = Filter(team=next(i for i, team in enumerate(book.reference.teams) if team.key == "t1"))
    for measure in MEASURES:
        days = (date(2024, 11, 1), AS_OF)
        before, after = (valued(book, book.as_of(day), measure) for day in days)
        for scope in (Filter(), team):
            for figure in ("weighted", "won", "open", "commit_forecast"):
                first, *causes, last = bridge(book, before, after, period, scope, figure)
                assert sum(cause.amount_minor for cause in causes) == last.amount_minor - first.amount_minor
                for row, snapshot in ((first, before), (last, after)):
                    assert row.amount_minor == getattr(forecast(book, snapshot, period, scope, "company")[0], figure)
