"""Workings of the account sheet: the deals, invoices and orders that its figures add up."""

from collections.abc import Callable

from django.http import HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import Period
from wise_tally.core.customer import AGEING, age_class_of
from wise_tally.core.figures_of_deals import OF_ACCOUNT
from wise_tally.domain.deals.models import Account
from wise_tally.domain.formats import age, count, day, moment, money, plural
from wise_tally.domain.org.clock import end_of_today
from wise_tally.pages.deals.customers.accounts import visible_account
from wise_tally.pages.deals.customers.leads import age_days, visible_lead
from wise_tally.pages.deals.customers.sheet import open_places, past_places, sales_spans, unpaid_of, year_spans
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

MOST_TERMS = 40
SheetRequest = tuple[PageRequest, FilterLine, Account]


@require_safe
def of_account(request: PageRequest, key: str, figure: str) -> HttpResponse:
    """How a figure of the account sheet came about."""
    account, line = visible_account(request, key), read_scope(request)
    one_of(figure, FIGURES, "is not a figure of the account sheet", 404)
    panel = FIGURES[figure]((request, line, account))
    given = "&".join(part for part in (line.query(), _month(request)) if part)
    return panel_response(request, line, panel, f"{reverse('customers:account', args=[key])}?{given}")


def _month(request: PageRequest) -> str:
    return f"month={request.GET['month']}" if request.GET.get("month") else ""


def _sum(account: Account, words: str, definition: str, rows: list[tuple[str, int]]) -> Panel:
    """A sum of invoices or orders, the largest first; what does not fit is added up in one line."""
    rows = sorted(rows, key=lambda row: -abs(row[1]))
    terms = [PanelTerm(text, money(value)) for text, value in rows[:MOST_TERMS]]
    if rest := rows[MOST_TERMS:]:
        terms.append(PanelTerm(f"{count(len(rest))} more", money(sum(value for _, value in rest))))
    total = money(sum(value for _, value in rows))
    return Panel(f"{words.capitalize()}, {account.name}", definition, tuple(terms), total, words, counted=len(rows))


def _deals(sheet: SheetRequest, words: str) -> Panel:
    request, line, account = sheet
    deals_of = open_places if words == "open" else past_places
    rows = deals_of(request, line, account)
    amount = line.snapshot.amount_minor[rows]
    return Panel(
        title=f"{words.capitalize()} deals, {account.name}",
        definition=OF_ACCOUNT[words].definition,
        terms=(PanelTerm(plural(len(rows), f"{words} deal"), money(int(amount.sum()))),),
        total=money(int(amount.sum())),
        total_words=words,
        **listed(line, rows, [money(int(value)) for value in amount[:FIRST_DEALS]], amount),
    )


def _unpaid(sheet: SheetRequest, ages: tuple[int, ...], words: str) -> Panel:
    _, line, account = sheet
    rows = [
        (f"{invoice.key}, due {day(invoice.due_on)}", invoice.amount_minor)
        for invoice in unpaid_of(line, account)
        if age_class_of(invoice.due_on, line.as_of) in ages
    ]
    return _sum(account, words, OF_ACCOUNT["unpaid"].definition, rows)


def _sold_rows(sheet: SheetRequest, which: int, of_year: bool) -> tuple[Period, list[tuple[str, int]]]:
    """The span of a figure of sales, and its invoices in words with their amounts."""
    request, line, account = sheet
    span = (year_spans(line) if of_year else sales_spans(request, line))[which]
    group, product = request.GET.get("group"), request.GET.get("product")
    invoices = account.invoices.filter(issued_on__gte=span.starts_on, issued_on__lte=span.ends_on).select_related(
        "product"
    )
    if group is not None:
        invoices = invoices.filter(product_group=group)
    rows = [
        (invoice, invoice.product.name if invoice.product else "without a product")
        for invoice in invoices.order_by("issued_on", "key")
    ]
    return span, [
        (f"{invoice.key}, {day(invoice.issued_on)}, {name}", invoice.amount_minor)
        for invoice, name in rows
        if product is None or name == product
    ]


def _words(span: Period) -> str:
    return f"{OF_ACCOUNT['sales'].definition} The span: {day(span.starts_on)} to {day(span.ends_on)}."


def _sold(sheet: SheetRequest, which: int, of_year: bool) -> Panel:
    span, rows = _sold_rows(sheet, which, of_year)
    return _sum(sheet[2], "sales", _words(span), rows)


def _change(sheet: SheetRequest, of_year: bool) -> Panel:
    terms, sums = [], []
    for which, sign in ((0, ""), (1, "− ")):
        span, rows = _sold_rows(sheet, which, of_year)
        sums.append(sum(value for _, value in rows))
        terms.append(PanelTerm(f"{sign}{day(span.starts_on)} to {day(span.ends_on)}", money(sums[-1])))
    change = OF_ACCOUNT["sales-change"]
    total = money(sums[0] - sums[1])
    return Panel(f"{change.title}, {sheet[2].name}", change.definition, tuple(terms), total, "change")


def _orders(sheet: SheetRequest) -> Panel:
    request, _, account = sheet
    wanted = request.GET.get("ships")
    rows = [
        (f"{order.key}, ships {day(order.ships_on)}", order.amount_minor)
        for order in account.orders.filter(open=True)
        if wanted is None or (f"{order.ships_on:%B %Y}" if order.ships_on else "no ship date") == wanted
    ]
    return _sum(account, "open orders", OF_ACCOUNT["orders"].definition, rows)


@require_safe
def of_lead(request: PageRequest, key: str) -> HttpResponse:
    """How old a lead is, or how long it took."""
    lead = visible_lead(request, key)
    until = ("closed", moment(lead.closed_at)) if lead.closed_at else ("the end of today", moment(end_of_today()))
    panel = Panel(
        title=f"Days, {lead.name}",
        definition="Days from creating the lead to qualifying or disqualifying it, or until today.",
        terms=(PanelTerm("created", moment(lead.created_at)), PanelTerm(*until)),
        total=age(age_days(lead, end_of_today())),
        total_words="days",
    )
    return panel_response(request, None, panel, reverse("customers:lead", args=[key]))


FIGURES: dict[str, Callable[[SheetRequest], Panel]] = {
    "open": lambda sheet: _deals(sheet, "open"),
    "past": lambda sheet: _deals(sheet, "past"),
    "unpaid": lambda sheet: _unpaid(sheet, tuple(range(len(AGEING))), "unpaid"),
    "past-due": lambda sheet: _unpaid(sheet, tuple(range(1, len(AGEING))), "past due"),
    **{
        f"age-{index}": lambda sheet, index=index, words=words: _unpaid(sheet, (index,), words)  # type: ignore[misc]
        for index, (words, _) in enumerate(AGEING)
    },
    "sales": lambda sheet: _sold(sheet, 0, of_year=False),
    "sales-before": lambda sheet: _sold(sheet, 1, of_year=False),
    "year": lambda sheet: _sold(sheet, 0, of_year=True),
    "year-before": lambda sheet: _sold(sheet, 1, of_year=True),
    "sales-change": lambda sheet: _change(sheet, of_year=False),
    "year-change": lambda sheet: _change(sheet, of_year=True),
    "orders": _orders,
}
