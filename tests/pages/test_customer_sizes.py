"""Classes of customers by the sales of twelve months: as sums over invoices say, on any day; set by the organisation."""

import csv
from collections import Counter
from datetime import date
from decimal import Decimal

import numpy as np
import pytest
from django.db.models import Sum

from wise_tally.book.store import books
from wise_tally.core.breakdowns import CUSTOMER_SIZE, customer_classes, deal_attribute, grouping
from wise_tally.domain.deals.models import Deal, Invoice
from wise_tally.domain.org.models import Workspace

PAGE = "/setup/organisation/"


def settings_with(sizes):
    """The organisation's form with these classes."""
    kept = Workspace.current()
    names = ("organisation", "currency", "time_zone", "fiscal_year_start_month")
    return {name: getattr(kept, name) for name in names} | {"customer_sizes": sizes}


@pytest.mark.parametrize("day", [date(2026, 11, 23), date(2026, 2, 28), date(2024, 2, 29)])
def test_each_deal_has_the_class_that_its_customers_invoices_say(demo, day):
    book = books.current()
    snapshot = book.as_of(day)
    names = grouping(book, CUSTOMER_SIZE, day).names
    found = deal_attribute(book, snapshot, CUSTOMER_SIZE)
    since = day.replace(year=day.year - 1, day=min(day.day, 28))
    account = dict(Deal.objects.values_list("key", "account_id"))
    sales = Counter()
    for invoice in Invoice.objects.filter(issued_on__gt=since, issued_on__lte=day):
        sales[invoice.account_id] += invoice.amount_minor
    for index, deal in zip(found.tolist(), snapshot.deal.tolist(), strict=True):
        customer = account[book.deals.key[deal]]
        expected = [name for name, begin in Workspace.current().size_classes() if not begin or sales[customer] >= begin]
        assert (names[index] if index >= 0 else None) == (expected[-1] if customer else None)
    if day.year == 2026:
        assert len(set(found.tolist()) - {-1}) == 3, "customers of each class"


def test_figures_by_size_add_up_and_follow_the_setting(demo, sign_in):
    boss, won = sign_in("a1"), []
    for by in ("process", CUSTOMER_SIZE):
        sheet = boss.get(f"/attainment/table.csv?by={by}&period=FY2027").content.decode()
        won.append(sum(Decimal(row["won"]) for row in csv.DictReader(sheet.splitlines())))
    assert won[0] == won[1] != 0
    largest = Invoice.objects.values("account").annotate(sold=Sum("amount_minor")).order_by("-sold").first()["sold"]
    answer = boss.post(PAGE, settings_with(f"ordinary\r\n\r\nkey account : {largest // 100:,}.01".replace(",", " ")))
    assert answer.status_code == 302
    assert Workspace.current().size_classes() == [("ordinary", 0), ("key account", largest // 100 * 100 + 1)]
    names = grouping(books.current(), CUSTOMER_SIZE, date(2026, 11, 23)).names
    assert names == ("ordinary", "key account")
    assert "key account" in boss.get(PAGE).content.decode()


@pytest.mark.parametrize(
    "sizes",
    [
        "small\nlarge",
        "small\nlarge: 5\nhuge: 5",
        "small\nsmall: 9",
        "small\nlarge: -4",
        "x" * 61,
        "small\nlarge 500",
        "a: 5\nb: 6",
    ],
)
def test_classes_that_are_none_are_refused(demo, sign_in, sizes):
    before = Workspace.current().customer_sizes
    answer = sign_in("a1").post(PAGE, settings_with(sizes))
    assert answer.status_code == 422
    assert Workspace.current().customer_sizes == before


def test_a_class_begins_at_its_amount_and_a_year_on_the_day_after():
    """Customers 1 to 3 sold 99, 100 and, on the last day of the year before, 100; the fourth deal has no customer."""
    last, before = date(2026, 11, 23).toordinal(), date(2025, 11, 23).toordinal()
    invoices = np.array([[1, last, 150], [1, last, -51], [2, before + 1, 100], [2, last + 1, 900], [3, before, 100]])
    found = customer_classes(invoices, np.array([1, 2, 3, 0]), date(2026, 11, 23), np.array([0, 100]))
    assert found.tolist() == [0, 1, 0, -1]
