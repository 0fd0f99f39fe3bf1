"""When money of a deal is due: each plan by hand, sums that hold, the calendar against plain Python on random rows."""

from datetime import date, timedelta
from random import Random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.naive import Naive, cents, half_even
from tests.support.plain_plans import MONTHS, dues
from tests.support.random_world import random_world, window
from wise_tally.core.cash import Plan, PlanRows, cash_calendar, first_dues, first_year_minor, payments_in, whole_minor
from wise_tally.core.lines import Filter

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


def with_payments(seed):
    """Plans of every kind: once, instalments, without end, on the last day of a month."""
    random, world = Random(f"cash{seed}"), random_world(seed, 40)
    for deal in [row["deal_id"] for row in world.tables["deals"]]:
        for _ in range(random.randrange(3)):
            due = date(2024, 1, 31) + timedelta(days=random.randrange(900))
            every = random.choice(("", "month", "quarter", "year"))
            times = random.choice((2, 5, None)) if every else None
            row = {
                "deal_id": deal,
                "due_on": str(due),
                "amount": f"{random.randrange(9_999)}.{random.randrange(100):02}",
            }
            if (deal, str(due)) not in {(r["deal_id"], r["due_on"]) for r in world.tables.get("payments", [])}:
                world.add("payments", **row, every=every or None, times=times)
    return world


@pytest.mark.parametrize("seed", range(6))
def test_the_cash_calendar_equals_a_loop_over_payments(seed):
    """By month, won in full and open weighted per payment; and a person's are the credited parts, which add up."""
    world = with_payments(seed)
    book, day = world.book(), window(seed)[2]
    snapshot, naive = book.as_of(day), Naive(world.tables, day)
    months = book.reference.fiscal.months_of(2025)
    plain = {m.text: {"won": 0, "open": 0} for m in months}
    for row in world.tables["payments"]:
        state = naive.states.get(row["deal_id"])
        if (
            state is None
            or state["kind"] == "lost"
            or (state["kind"] == "open" and state["category"] not in naive.counted)
        ):
            continue
        plan = Plan(date.fromisoformat(row["due_on"]), 0, row.get("every") or "", row.get("times"))
        for on, _ in dues(plan, months[-1].ends_on):
            month = next((m for m in months if m.starts_on <= on <= m.ends_on), None)
            if month:
                plain[month.text][state["kind"]] += half_even(cents(row["amount"]) * state["probability"] / 100)
    rows = [(deal, plan.due_on.toordinal(), plan.amount_minor, MONTHS.get(plan.every, 0), plan.times or (-1 if plan.every else 1))
            for deal, own in enumerate(book.attributes.plans()) for plan in own]  # fmt: skip
    plans = PlanRows(*np.array(rows, dtype=np.int64).T)
    whole = payments_in(book, snapshot, plans, months, Filter())
    for one in cash_calendar(snapshot, whole, months):
        assert (one.won_minor, one.open_minor) == (plain[one.period.text]["won"], plain[one.period.text]["open"])
    parts = [payments_in(book, snapshot, plans, months, Filter(person=p)) for p in range(len(book.reference.people))]
    assert sum(int(p.value_minor.sum()) for p in parts) == int(whole.value_minor.sum())
