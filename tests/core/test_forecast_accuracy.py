"""The record of each rep: what was due in the middle of a period and slipped past its end, against a plain loop."""

from collections import defaultdict
from datetime import date

import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world
from wise_tally.core.forecast_accuracy import middle_of, rep_records
from wise_tally.core.lines import Filter

AS_OF = date(2025, 11, 20)


@pytest.mark.parametrize("seed", range(3))
def test_what_was_due_and_slipped_equals_a_loop(seed):
    world = random_world(seed + 40, 120)
    book = world.book()
    snapshot, fiscal = book.as_of(AS_OF), book.reference.fiscal
    period = fiscal.shifted(fiscal.containing(AS_OF, "quarter"), -1)
    then, end = (Naive(world.tables, day) for day in (middle_of(period), period.ends_on))
    records = rep_records(book, snapshot, period, Filter())
    due = defaultdict(lambda: [0, 0])
    for key, state in then.states.items():
        counted = state["kind"] == "open" and state["category"] in then.counted
        if counted and state["close"] and period.starts_on <= state["close"] <= period.ends_on:
            later = (
                end.states[key]["kind"] == "open"
                and end.states[key]["close"]
                and end.states[key]["close"] > state["close"]
            )
            for person in then.shares(key):
                due[person][0] += 1
                due[person][1] += bool(later)
    people = [person.key for person in book.reference.people]
    assert {people[p]: [r.due, r.slipped] for p, r in records.items() if r.due} == dict(due)
