"""One customer in figures: ageing, sales against the same days of the last year, contact gap."""

from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.customer import Owed, Sale, ageing, compare_sales, contact_gap
from wise_tally.core.same_days import YEAR, same_days

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
