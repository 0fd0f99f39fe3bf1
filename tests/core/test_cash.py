"""When money of a deal is due: each plan by hand, and sums that hold."""

from datetime import date

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.support.plain_plans import dues
from wise_tally.core.cash import Plan, PlanRows, first_dues, first_year_minor, whole_minor

DAYS = st.dates(date(2001, 1, 1), date(2098, 12, 31))


def test_dues_of_each_plan():
    """A day that a month lacks falls on its last, and comes back where the month has it."""
    until = date(2028, 12, 31)
    monthly = dues(Plan(date(2027, 12, 31), 100, "month", 4), until)
    assert [on for on, _ in monthly] == [date(2027, 12, 31), date(2028, 1, 31), date(2028, 2, 29), date(2028, 3, 31)]
    assert [on.month for on, _ in dues(Plan(date(2027, 11, 5), 1, "quarter", 3), until)] == [11, 2, 5]
    assert dues(Plan(date(2029, 1, 1), 5), until) == []
    assert whole_minor(Plan(until, 5, "year", None)) is None


@given(DAYS, st.sampled_from(["", "month", "quarter", "year"]), st.integers(1, 60))
def test_a_plan_with_an_end_gives_all_of_it_in_the_end(first, every, times):
    plan = Plan(first, 125, every, times if every else None)
    found = dues(plan, date(first.year + 99, 12, 31))
    assert sum(amount for _, amount in found) == whole_minor(plan)
    assert [on for on, _ in found] == sorted({on for on, _ in found})


def test_the_first_year_ends_before_the_same_day_of_the_next():
    on = date(2024, 2, 29).toordinal()
    rows = PlanRows(*(np.array(c) for c in ([0, 0, 1], [on, on + 365, on], [100, 7, 50], [1, 0, 3], [-1, -1, 2])))
    first = first_dues(rows, 3)
    assert first.tolist() == [on, on, 0]
    # Twelve months from 29 February 2024 end before 28 February 2025; the last monthly due is 29 January.
    assert first_year_minor(rows, first).tolist() == [1200, 100, 0]
