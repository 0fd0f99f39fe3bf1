"""A simulated stand-in for the ledger of another program: what it would send since the last time, read as a package.

Invoices and orders of each day are made from the day itself, so the same days always bring the same rows; old unpaid
invoices get paid. A real feed would write the same two tables.
"""

import tempfile
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

from babel.numbers import get_currency_precision
from django.db.models import Max

from wise_tally.core.money import apportion
from wise_tally.domain.deals.models import Account, Invoice, Order, Product
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Workspace
from wise_tally.package.reading import read_package
from wise_tally.package.writing import Rows, write_tables

MOST_DAYS = 62
TERM_DAYS = 30
PAID_AFTER = 40


def fetch_ledger(viewer: Viewer, today: date, now: datetime) -> dict[str, int]:
    """Take in what the simulated ledger has since the last day it brought; returns rows a table."""
    viewer.require(May.IMPORT)
    days = _new_days(today)
    invoices = [*_paid(today), *(row for day in days for row in _invoices_of(day))]
    orders = [row for day in days for row in _orders_of(day)]
    if not invoices and not orders:
        return {"invoices": 0, "orders": 0}
    with tempfile.TemporaryDirectory() as folder:
        write_tables(Path(folder), "ledger", {"invoices": invoices, "orders": orders})
        report = read_package(Path(folder), now)
    audit(viewer, "ledger fetched", f"{plural(len(invoices), 'invoice')}, {plural(len(orders), 'order')}", now)
    return report.rows


def _new_days(today: date) -> list[date]:
    """Days after the last that invoices or orders are known of, at most two months back."""
    known = (
        Invoice.objects.aggregate(last=Max("issued_on"))["last"],
        Order.objects.aggregate(last=Max("ordered_on"))["last"],
    )
    last = max((day for day in known if day), default=today - timedelta(days=MOST_DAYS))
    first = max(last + timedelta(days=1), today - timedelta(days=MOST_DAYS))
    return [first + timedelta(days=number) for number in range((today - first).days + 1)]


def _paid(today: date) -> Rows:
    """Unpaid invoices that customers have paid by now: most are, some weeks after they were due."""
    rows: Rows = []
    unpaid = Invoice.objects.filter(paid_on=None, due_on__lte=today - timedelta(days=PAID_AFTER), amount_minor__gt=0)
    for invoice in unpaid.select_related("account", "product").order_by("key"):
        if Random(invoice.key).random() < 0.5:
            row = _invoice(invoice.key, invoice.account.key, invoice.issued_on, invoice.amount_minor, invoice.product)
            rows.append(row | {"due_on": invoice.due_on.isoformat(), "paid_on": today.isoformat()})
    return rows


def _chosen(day: date, what: str, most: int) -> list[tuple[str, Account, Product, int]]:
    """Identifier, account, product and amount of some rows of a day, the same for the same day."""
    random = Random(f"{what} {day}")
    accounts, products = list(Account.objects.order_by("key")), list(Product.objects.order_by("key"))
    if not accounts or not products or day.weekday() > 4:
        return []
    sales = []
    for number in range(random.randint(0, most)):
        product = random.choice(products)
        amount = (product.unit_price_minor or 100_000) * random.randint(1, 4)
        sales.append((f"{what}_{day:%Y%m%d}_{number + 1}", random.choice(accounts), product, amount))
    return sales


def _invoices_of(day: date) -> Rows:
    return [
        _invoice(key, account.key, day, amount, product) for key, account, product, amount in _chosen(day, "inv", 8)
    ]


def _invoice(key: str, account: str, issued: date, amount_minor: int, product: Product | None) -> dict[str, Any]:
    row = {"invoice_id": key, "account_id": account, "issued_on": issued.isoformat(), "amount": _major(amount_minor)}
    row |= {"due_on": (issued + timedelta(days=TERM_DAYS)).isoformat(), "paid_on": ""}
    group, key = (product.product_group, product.key) if product else ("", "")
    return row | {"product_group": group, "product_id": key}


def _orders_of(day: date) -> Rows:
    rows: Rows = []
    for key, account, product, amount in _chosen(day, "ord", 4):
        # An order ships in two parts some weeks apart.
        for part, weeks in zip(apportion(amount, (2, 1), ("1", "2")), (4, 9), strict=True):
            row = {"order_id": f"{key}_{weeks}", "account_id": account.key, "ordered_on": day.isoformat()}
            row |= {"ships_on": (day + timedelta(weeks=weeks)).isoformat(), "amount": _major(part), "open": "true"}
            rows.append(row | {"product_group": product.product_group, "product_id": product.key})
    return rows


def _major(amount_minor: int) -> str:
    decimals = get_currency_precision(Workspace.current().currency)
    whole, rest = divmod(amount_minor, 10**decimals)
    return f"{whole}.{rest:0{decimals}}" if decimals else str(whole)
