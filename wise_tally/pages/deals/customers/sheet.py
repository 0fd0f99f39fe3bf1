"""The account sheet: everything about one customer on one screen."""

from dataclasses import replace
from typing import Any

import numpy as np
from django.db.models import Q, QuerySet
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.book.store import books
from wise_tally.core.calendar import Period
from wise_tally.core.customer import (
    Owed,
    Sale,
    ageing,
    all_sales,
    compare_sales,
    orders_by_month,
    past_due_minor,
    unpaid_minor,
)
from wise_tally.core.deal_list import list_totals
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import OPEN
from wise_tally.core.same_days import YEAR, same_days
from wise_tally.domain.deals.customer_access import may_change_account
from wise_tally.domain.deals.models import Account, Invoice
from wise_tally.domain.deals.own_fields import own_shown
from wise_tally.domain.org.clock import now, today
from wise_tally.pages.deals.customers.accounts import visible_account
from wise_tally.pages.deals.customers.journal import journal_of
from wise_tally.pages.deals.customers.sales_chart import last_months, sales_by_month, sales_chart
from wise_tally.web.deal_rows import deal_rows
from wise_tally.web.files.tables import exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

LATEST, FEW = 15, 50
MONTHS_BACK = 36


@require_safe
def account(request: PageRequest, key: str) -> HttpResponse:
    """Deals, invoices by age, orders by month, sales against last year, contacts and talk of one customer."""
    customer = visible_account(request, key)
    line = request.filter_line = replace(read_scope(request), any_period=True)
    may_change = may_change_account(request.viewer, line.book.reference, customer, line.today)
    answer = {
        "account": customer,
        "may_edit": not line.is_past and may_change,
        "this_page": request.get_full_path(),
        "back": safe_next(request, ""),
        "own_values": own_shown("account", customer.key),
        "twins": visible(request).likely_accounts(customer.name, customer.key),
        **_deals(request, line, customer),
        **sales_of(request, line, customer),
        **ledger(line, customer),
        **journal_of(request, customer, line.ends_at),
        **_contacts(customer),
    }
    return render(request, "customers/account.html", answer | {"moment": now(), "today": today()})


def _contacts(customer: Account) -> dict[str, Any]:
    contacts = customer.contacts.order_by("name")
    return {"contacts": contacts[:FEW], "more_contacts": max(0, contacts.count() - FEW)}


def _places(request: PageRequest, line: FilterLine, customer: Account) -> Ints:
    """Rows of the snapshot of the customer's deals that the viewer may see."""
    stored = books.stored()
    indices = [stored.index_of(deal.pk) for deal in visible(request).deals(Q(account=customer))]
    wanted = np.array(sorted(i for i in indices if i is not None), dtype=np.int64)
    return np.flatnonzero(np.isin(line.snapshot.deal, wanted))


def open_places(request: PageRequest, line: FilterLine, customer: Account) -> Ints:
    """The open ones of them, the largest first."""
    rows = _places(request, line, customer)
    rows = rows[line.snapshot.kind[rows] == OPEN]
    return rows[np.argsort(-line.snapshot.amount_minor[rows], kind="stable")]


def past_places(request: PageRequest, line: FilterLine, customer: Account) -> Ints:
    """The closed ones of them, the last closed first."""
    rows = _places(request, line, customer)
    rows = rows[line.snapshot.kind[rows] != OPEN]
    return rows[np.argsort(-line.snapshot.closed_on[rows], kind="stable")]


def _deals(request: PageRequest, line: FilterLine, customer: Account) -> dict[str, Any]:
    """The deals of the customer that the viewer may see, as they stood."""
    snapshot = line.snapshot
    opened, closed = open_places(request, line, customer), past_places(request, line, customer)
    rows = deal_rows(line, [*opened[:LATEST].tolist(), *closed[:LATEST].tolist()], request.viewer)
    return {
        "open_deals": [rows[index] for index in opened[:LATEST].tolist() if index in rows],
        "past_deals": [rows[index] for index in closed[:LATEST].tolist() if index in rows],
        "open_totals": list_totals(snapshot, opened),
        "past_totals": list_totals(snapshot, closed),
        "footer": Footer(
            len(opened) + len(closed), exports=exports("customers:account-table", line.query(), customer.key)
        ),
    }


def sales_spans(request: PageRequest, line: FilterLine) -> tuple[Period, Period]:
    """The month asked for (the present one to date unless another is) and the same days last year. Raises Refused."""
    return _with_last_year(line, _month_asked(request, line))


def year_spans(line: FilterLine) -> tuple[Period, Period]:
    """The fiscal year to date and the same days a year before."""
    year = Period(
        line.book.reference.fiscal.containing(line.as_of, "year").starts_on, line.as_of, "span", "year to date"
    )
    return _with_last_year(line, year)


def _with_last_year(line: FilterLine, begun: Period) -> tuple[Period, Period]:
    this, last = same_days(line.book.reference.fiscal, begun, line.as_of, YEAR)
    assert last is not None, "a period that has begun meets one"
    return this, last


def _month_asked(request: PageRequest, line: FilterLine) -> Period:
    fiscal = line.book.reference.fiscal
    month = fiscal.parse(request.GET["month"]) if request.GET.get("month") else fiscal.containing(line.as_of, "month")
    if month.starts_on > line.as_of:
        raise Refused(f"{period_words(month)} has not started yet. Choose an earlier month.")
    return month


def unpaid_of(line: FilterLine, customer: Account) -> "QuerySet[Invoice]":
    """Invoices issued by the day and not paid by it."""
    return customer.invoices.filter(issued_on__lte=line.as_of).exclude(paid_on__lte=line.as_of)


def sales_of(request: PageRequest, line: FilterLine, customer: Account) -> dict[str, Any]:
    """Sales of a month (the present one to date unless another is asked for) against the same days last year."""
    fiscal, month = line.book.reference.fiscal, _month_asked(request, line)
    present = fiscal.containing(line.as_of, "month")
    this, before = sales_spans(request, line)
    rows = customer.invoices.filter(issued_on__gte=before.starts_on, issued_on__lte=this.ends_on).select_related(
        "product"
    )
    sales = [Sale(r.issued_on, r.amount_minor, r.product_group, r.product.name if r.product else "") for r in rows]
    months = [fiscal.shifted(present, -step) for step in range(MONTHS_BACK)]
    return {
        "sales": compare_sales(sales, this, before),
        "all_sales": all_sales(sales, this, before),
        "span_this": this,
        "span_month": month.text,
        "span_before": before,
        **_sales_of_years(line, customer),
        "months": [(m.text, period_words(m), m.text == month.text) for m in months],
    }


def _sales_of_years(line: FilterLine, customer: Account) -> dict[str, Any]:
    """Sales of the fiscal year to date and of the last months, each beside the same days or month a year before."""
    spans, first = year_spans(line), line.book.reference.fiscal.shifted(last_months(line)[0], -12).starts_on
    issued = customer.invoices.filter(issued_on__gte=min(first, spans[1].starts_on), issued_on__lte=line.as_of)
    sales = [Sale(on, amount, "", "") for on, amount in issued.values_list("issued_on", "amount_minor")]
    months = sales_by_month(line, sales)
    return {
        "year_sales": all_sales(sales, *spans),
        "sales_months": [(month.text, period_words(month), row) for month, row in months[::-1]],
        "chart": sales_chart(line, months, customer.key),
    }


def ledger(line: FilterLine, customer: Account) -> dict[str, Any]:
    """Unpaid invoices by age and open orders by ship month, as the ledger says today."""
    unpaid = unpaid_of(line, customer)
    rows = ageing([Owed(due, amount) for due, amount in unpaid.values_list("due_on", "amount_minor")], line.as_of)
    months = orders_by_month(list(customer.orders.filter(open=True).values_list("ships_on", "amount_minor")))
    return {
        "ageing": rows,
        "owed_minor": unpaid_minor(rows),
        "late_minor": past_due_minor(rows),
        "unpaid": unpaid.filter(due_on__lt=line.as_of).order_by("due_on")[:LATEST],
        "orders": [(f"{o.month:%B %Y}" if o.month else "no ship date", o.amount_minor) for o in months],
        "orders_minor": sum(o.amount_minor for o in months),
    }
