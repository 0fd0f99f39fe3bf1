"""Submitted forecasts: which holds, and when the next are due."""

from dataclasses import replace
from datetime import date

import pytest

from tests.support.small_books import day, moment, reference
from wise_tally.core.calls import as_difference, calls_in_force, last_due
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
