"""One customer in figures, and when money of a deal is due."""

from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from tests.support.plain_plans import dues
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.cash import Plan, whole_minor
from wise_tally.core.customer import Owed, Sale, ageing, compare_sales, contact_gap
from wise_tally.core.money import line_amount, line_margin, margin_of_lines
from wise_tally.core.same_days import YEAR, same_days, year_before

DAYS = st.dates(date(2001, 1, 1), date(2098, 12, 31))
MONEY = st.integers(-(10**9), 10**9)


def test_the_edges_of_the_ages_of_invoices():
    """Common practice: due today is not past due; 30, 60 and 90 days still belong to the younger age."""
    today = date(2026, 11, 23)
    late = {0: 0, -5: 0, 1: 1, 30: 1, 31: 2, 60: 2, 61: 3, 90: 3, 91: 4, 4_000: 4}
    for days, place in late.items():
        rows = ageing([Owed(today - timedelta(days=days), 700)], today)
        assert [row.amount_minor for row in rows] == [700 if i == place else 0 for i in range(5)]
        assert rows[place].invoices == 1


@given(st.lists(st.tuples(DAYS, MONEY), max_size=30), DAYS)
def test_the_ages_partition_what_is_unpaid(owed, today):
    rows = ageing([Owed(*one) for one in owed], today)
    assert sum(row.amount_minor for row in rows) == sum(amount for _, amount in owed)
    assert sum(row.invoices for row in rows) == len(owed)


def test_the_same_days_of_the_year_before():
    """Ruling 31: min(day, last of the month); 28 February meets 28, never 29."""
    assert year_before(date(2024, 2, 29)) == date(2023, 2, 28)
    assert year_before(date(2025, 2, 28)) == date(2024, 2, 28)
    month = FiscalCalendar(4).parse("FY2027-M08")
    this, before = same_days(FiscalCalendar(4), month, date(2026, 11, 15), YEAR)
    assert (this.starts_on, this.ends_on) == (date(2026, 11, 1), date(2026, 11, 15))
    assert (before.starts_on, before.ends_on) == (date(2025, 11, 1), date(2025, 11, 15))
    whole = same_days(FiscalCalendar(4), month, date(2027, 3, 1), YEAR)
    assert [span.ends_on for span in whole] == [date(2026, 11, 30), date(2025, 11, 30)]


@given(DAYS)
def test_a_year_before_is_a_year_before(day):
    found = year_before(day)
    assert (found.year, found.month) == (day.year - 1, day.month)
    assert found.day == day.day or (day.day == 29 and found.day == 28)


@given(st.lists(st.tuples(DAYS, MONEY, st.sampled_from("ab"), st.sampled_from(["", "p", "q"])), max_size=40), DAYS)
def test_sales_of_a_group_are_those_of_its_products(sales, today):
    """A naive sum over the rows gives each group; its products add up to it."""
    year = FiscalCalendar(1).containing(today, "year")
    this, before = same_days(FiscalCalendar(1), year, today, YEAR)
    rows = compare_sales([Sale(*sale) for sale in sales], this, before)
    for row in (row for row in rows if not row.product):
        inside = [r for r in rows if r.product_group == row.product_group and r.product]
        assert row.this_minor == sum(r.this_minor for r in inside)
        naive = [a for on, a, g, _ in sales if g == row.product_group and before.starts_on <= on <= before.ends_on]
        assert row.before_minor == sum(naive)
        assert row.change_minor == row.this_minor - row.before_minor


def test_a_contact_interval_is_missed_once_it_is_over():
    assert [contact_gap(days) for days in (-1, 0, 13.99, 14, 27.9, 28, 90)] == [0, 0, 0, 1, 1, 2, 6]
    assert contact_gap(21, 7) == 3


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


def test_the_margin_of_lines():
    """10 × 12.50 less 10 %, cost 7.20 each: 112.50 − 72.00. None without a cost, and without lines."""
    amount = line_amount(100_000, 1_250, 1_000)
    assert (amount, line_margin(100_000, amount, 720)) == (11_250, 4_050)
    assert line_margin(100_000, amount, None) is None
    assert margin_of_lines([4_050, -50]) == 4_000
    assert margin_of_lines([4_050, None]) is None
    assert margin_of_lines([]) is None
