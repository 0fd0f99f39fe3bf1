"""Months side by side against loops over the rows, and what is unusual against another implementation."""

from datetime import date, datetime
from random import Random

import numpy as np
import pytest
from scipy.stats import median_abs_deviation

from tests.support.naive import Naive, local
from tests.support.random_world import random_world
from wise_tally.core.lines import Filter
from wise_tally.core.monthly_trend import SpanFigures, of_three_months, spans, usual, velocity

AS_OF = date(2025, 11, 20)


SCOPE = Filter(process=0)


def test_what_is_unusual_follows_the_scaled_deviation_of_scipy():
    """scipy's scale "normal" is 1 ÷ 0.67449, the exact form of 1.4826 (common practice)."""
    random = Random(3)
    values = [random.randrange(100) for _ in range(40)]
    for place, mark in enumerate(usual(values)):
        if place < 12:
            assert mark is None
            continue
        before = values[place - 12 : place]
        assert mark.median == np.median(before)
        assert mark.reach == pytest.approx(3 * median_abs_deviation(before, scale="normal"), rel=1e-4)
    flat = usual([5.0] * 12 + [5.0, 6.0])
    assert [flat[12].is_unusual(5.0), flat[13].is_unusual(6.0)] == [False, True]
    assert usual([None] * 3 + [1.0] * 11)[-1] is None


@pytest.mark.parametrize("seed", range(3))
def test_spans_are_those_of_a_loop_over_the_rows(seed):
    world = random_world(seed + 20, 80)
    book, naive = world.book(), Naive(world.tables, AS_OF)
    snapshot = book.as_of(AS_OF)
    fiscal = book.reference.fiscal
    months = tuple(fiscal.shifted(fiscal.containing(AS_OF, "month"), step) for step in range(-20, 1))
    for found in spans(book, snapshot, months, SCOPE):
        inside = lambda day, p=found.period: p.starts_on <= day <= p.ends_on  # noqa: E731
        created = [k for k in naive.states if inside(local(datetime.fromisoformat(naive.deals[k]["created_at"])))]
        closed = [k for k, s in naive.states.items() if s["closed_on"] and inside(s["closed_on"])]
        won = [k for k in closed if naive.states[k]["kind"] == "won"]
        amount = lambda keys: sum(naive.states[k]["amount"] for k in keys)  # noqa: E731
        assert (found.created, found.created_value) == (len(created), amount(created))
        assert (found.won, found.lost, found.won_value) == (len(won), len(closed) - len(won), amount(won))
    period = fiscal.parse("2025-01-01/2025-11-20")
    found = velocity(book, snapshot, period, SCOPE)
    assert found.open_deals == sum(s["kind"] == "open" for s in naive.states.values())
    if found.per_day:
        whole = spans(book, snapshot, (period,), SCOPE)[0]
        expected = (
            found.open_deals * whole.won / (whole.won + whole.lost) * whole.won_value / whole.won / whole.days_to_win
        )
        assert found.per_day == pytest.approx(expected)


def test_three_months_take_every_deal_alike():
    """Rates and sizes of the three months' deals together, not the mean of three rates; numbers as a mean a month."""
    months = [
        SpanFigures(None, 10, 1_000, 1, 9, 500, 40.0),
        SpanFigures(None, 20, 3_000, 0, 5, 0, None),
        SpanFigures(None, 60, 8_000, 3, 0, 900, 20.0),
        SpanFigures(None, 0, 0, 0, 0, 0, None),
    ]
    assert of_three_months(months, "created") == (None, None, 30, pytest.approx(80 / 3))
    assert of_three_months(months, "win_rate") == (None, None, pytest.approx(4 / 18), pytest.approx(3 / 8))
    assert of_three_months(months, "mean_won") == (None, None, 350, 300)
    assert of_three_months(months, "days_to_win") == (None, None, 25, 20)
    assert of_three_months(months[:1], "won") == (None,)
    assert of_three_months([months[3]] * 3, "days_to_win") == (None, None, None)
