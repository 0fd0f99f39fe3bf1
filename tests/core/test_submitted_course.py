"""Submitted forecasts week by week: each day is the forecast of that day, in steps of whole weeks."""

import itertools
from datetime import date, timedelta

import pytest

from tests.support.random_world import random_world
from tests.support.world import moment
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.submitted_course import MOST_DAYS, shown_days, submitted_course
from wise_tally.core.trees import NONE

LAST = date(2025, 3, 20)


@pytest.mark.parametrize(
    ("length", "days", "step"), [(0, 1, 7), (6, 1, 7), (7, 2, 7), (91, 14, 7), (92, 7, 14), (365, 11, 35)]
)
def test_days_go_back_in_equal_steps_of_weeks(length, days, step):
    """A quarter (13 weeks) has a day a week; what is longer takes as many weeks at once as it needs."""
    found = shown_days(LAST - timedelta(days=length), LAST)
    assert (len(found), found[-1]) == (days, LAST)
    assert len(found) <= MOST_DAYS
    assert {(b - a).days for a, b in itertools.pairwise(found)} <= {step}


@pytest.mark.parametrize(("by", "key"), [("company", ""), ("team", "t1"), ("person", "a")])
def test_each_day_is_the_forecast_of_that_day(by, key):
    world = random_world(5, 80)
    for day, amount, maker in (
        ("2025-01-20", "900.00", "m"),
        ("2025-02-12", "400.00", "m"),
        ("2025-03-01", "100.00", "a"),
    ):
        span = {"starts_on": "2025-01-01", "ends_on": "2025-03-31"}
        world.add("calls", subject="person", subject_id="a", made_at=moment(day), made_by=maker, amount=amount, **span)
    book = world.book()
    period = book.reference.fiscal.parse("2025-01-01/2025-03-31")
    keys = {"team": book.reference.teams, "person": book.reference.people}.get(by, ())
    node = next((place for place, one in enumerate(keys) if one.key == key), NONE)
    scope = {"company": Filter(), "team": Filter(team=node), "person": Filter(person=node)}[by]
    course = submitted_course(book, period, LAST, scope, (by, node))
    assert [one.day for one in course] == shown_days(period.starts_on, LAST)
    for one in course:
        row = next(r for r in forecast(book, book.as_of(one.day), period, scope, by, calls=True) if r.key == key)
        assert (one.submitted, one.weighted, one.won) == (row.call, row.weighted, row.won)
    assert by != "person" or [one.submitted for one in course][-3:] == [40_000] * 3, (
        "the manager's goes before the rep's own"
    )
