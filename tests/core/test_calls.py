"""Submitted forecasts: which holds, and when the next are due."""

from dataclasses import replace
from datetime import date

import pytest

from tests.support.small_books import day, moment, reference
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.calls import as_difference, calls_in_force, last_due, submitted_amounts
from wise_tally.core.reference_data import Call

QUARTER = reference().fiscal.parse("FY2026-Q1")
ANN, BOB = 0, 1


def call(amount, made_by, on, subject="person", span=(QUARTER.starts_on, QUARTER.ends_on)):
    """A submitted forecast on Ann, or on the company."""
    whom = ANN if subject == "person" else -1
    return Call(subject, whom, span[0].toordinal(), span[1].toordinal(), moment(day(on)), made_by, amount)


@pytest.mark.parametrize(
    ("calls", "as_of", "holds"),
    [
        ([call(1, ANN, "2026-01-05"), call(2, ANN, "2026-01-09")], "2026-01-31", 2),
        ([call(1, ANN, "2026-01-05"), call(2, ANN, "2026-01-09")], "2026-01-08", 1),
        ([call(2, BOB, "2026-01-05"), call(1, ANN, "2026-01-09")], "2026-01-31", 2),
        ([call(2, BOB, "2026-01-05"), call(1, ANN, "2026-01-09"), call(3, BOB, "2026-01-20")], "2026-01-31", 3),
        ([call(2, BOB, "2026-02-05")], "2026-01-31", None),
        ([call(2, BOB, "2026-01-05", span=(QUARTER.starts_on, day("2026-03-30")))], "2026-01-31", None),
        ([call(2, BOB, "2026-01-05", "company"), call(1, ANN, "2026-01-09", "company")], "2026-01-31", 1),
    ],
)
def test_a_managers_on_a_person_goes_before_the_persons_own_else_the_latest_holds(calls, as_of, holds):
    ground = reference(("ann", "bob"))
    held = calls_in_force(replace(ground, calls=tuple(calls)), day(as_of), QUARTER)
    assert [one.amount_minor for one in held.values()] == ([] if holds is None else [holds])


@pytest.mark.parametrize(
    ("today", "weekday", "due"),
    [("2026-03-02", 0, "2026-03-02"), ("2026-03-02", 4, "2026-02-27"), ("2026-03-01", 0, "2026-02-23"),
     ("2026-03-31", 1, "2026-03-31"), ("2026-04-01", 1, None), ("2026-03-02", None, None)],
)  # fmt: skip
def test_the_last_day_on_which_they_were_due(today, weekday, due):
    """2 March 2026 is a Monday; on the last day of the period they may still be due, the day after no more."""
    assert last_due(day(today), weekday, QUARTER) == (due and date.fromisoformat(due))


def test_a_difference_starts_from_what_was_submitted_or_from_nothing():
    assert [as_difference(500, -50), as_difference(None, 70)] == [450, 70]


def test_a_node_without_one_adds_up_what_is_below_and_a_territory_without_any_has_none():
    """North holds Ann and, below it, South with Bob; Cid is in no team. Nobody is weighted at all unless said so."""
    north, south = 0, 1
    ground = reference((("ann", north), ("bob", south), "cid"), ("north", "south"))
    below = (ground.teams[north], replace(ground.teams[south], parents=((0, north),)))
    ground = replace(
        ground, teams=below, territories=(ground.teams[0], ground.teams[1], replace(ground.teams[1], parents=((0, 1),)))
    )

    def told(weighted, *calls):
        span = (QUARTER.starts_on.toordinal(), QUARTER.ends_on.toordinal())
        made = tuple(
            Call(subject, index, *span, moment(day("2026-01-05")), BOB, amount) for subject, index, amount in calls
        )
        found = submitted_amounts(replace(ground, calls=made), day("2026-01-31"), QUARTER, weighted)
        return {(subject, index): found[subject, index] for subject, index in found if index != -1} | {
            "all": found["company", -1]
        }

    found = told({0: 10, 1: 20}, ("person", BOB, 7))
    assert [found["person", index] for index in range(3)] == [10, 7, 0]
    assert (found["team", south], found["team", north], found["all"]) == (7, 17, 17)
    assert [found["territory", index] for index in range(3)] == [None, None, None]
    found = told({2: 3}, ("team", south, 50), ("territory", 2, 8), ("territory", 0, 1))
    assert (found["team", south], found["team", north], found["all"]) == (50, 50, 53)
    assert [found["territory", index] for index in range(3)] == [1, 8, 8]
    found = told({0: 10}, ("company", -1, 99), ("territory", 1, 0), ("territory", 2, 8))
    assert (found["team", north], found["all"], found["territory", 1]) == (10, 99, 0)


def test_of_two_at_the_same_moment_the_later_entered_holds_and_the_midnight_after_is_too_late():
    cut = midnight_ending(day("2026-01-31"), "UTC")
    made = [
        replace(call(amount, ANN, "2026-01-31"), made_at=at) for amount, at in ((1, cut - 1), (2, cut - 1), (3, cut))
    ]
    held = calls_in_force(replace(reference(("ann", "bob")), calls=tuple(made)), day("2026-01-31"), QUARTER)
    assert held["person", ANN].amount_minor == 2
