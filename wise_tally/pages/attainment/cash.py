"""Cash calendar: when the money of won and open deals is due, by month, by kind of plan and by customer."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.answers.results import of_cash
from wise_tally.core.calendar import Period
from wise_tally.core.cash import KINDS, CashPeriod, Payments, cash_calendar, payments_in, won_and_open
from wise_tally.core.dashboard_counts import sums_by_period
from wise_tally.core.money import sum_by_group
from wise_tally.core.reference_data import WON
from wise_tally.domain.formats import day, money, plural, points
from wise_tally.pages.attainment.cash_chart import MonthRow, cash_chart
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.deal_columns import attributes_of
from wise_tally.web.deal_rows import accounts_numbered, names_of
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node, working_query
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelDeal, PanelTerm, panel_response

KIND_WORDS = {"once": "one sum", "instalments": "instalments", "recurring": "recurring without end"}
MOST_ACCOUNTS = 30
SIDES = ("won", "open", "all")


@dataclass(frozen=True)
class Cash:
    """The payments of a scope in its months."""

    line: FilterLine

    @cached_property
    def months(self) -> tuple[Period, ...]:
        """The months that the period touches, cut to it at both ends."""
        period, fiscal = self.line.period, self.line.book.reference.fiscal
        months: list[Period] = []
        month = fiscal.containing(period.starts_on, "month")
        while month.starts_on <= period.ends_on and len(months) < MOST_MONTHS:
            months.append(_cut(month, period))
            month = fiscal.shifted(month, 1)
        return tuple(months)

    @cached_property
    def payments(self) -> Payments:
        """Everything due in these months."""
        line = self.line
        return payments_in(line.book, line.snapshot, attributes_of(line).plans(), self.months, line.scope)

    @cached_property
    def rows(self) -> tuple[CashPeriod, ...]:
        """The sums of each month."""
        return cash_calendar(self.line.snapshot, self.payments, self.months)

    def chosen(self, month: str, kind: str, side: str, account: int | None) -> Payments:
        """The payments behind one figure; empty words and None keep all."""
        payments, line = self.payments, self.line
        keep = np.ones(len(payments.rows), dtype=bool)
        if month:
            texts = [one.text for one in self.months]
            one_of(month, texts, "is not a month of this period", 404)
            keep &= payments.period == texts.index(month)
        if kind:
            one_of(kind, KINDS, "is not a kind of payment", 404)
            keep &= payments.kind == KINDS.index(kind)
        if side != "all":
            keep &= (line.snapshot.kind[payments.rows] == WON) == (side == "won")
        if account is not None:
            keep &= self.accounts == account
        return payments.take(keep)

    @cached_property
    def accounts(self) -> np.ndarray:
        """Row number of the customer behind each payment, 0 for none."""
        line = self.line
        return attributes_of(line).references("account")[line.snapshot.deal[self.payments.rows]]

    def by_account(self) -> list[tuple[int, int, int]]:
        """Row number of the customer, due of won deals, due of open ones weighted; the most money first."""
        numbers, index = np.unique(self.accounts, return_inverse=True)
        won = self.line.snapshot.kind[self.payments.rows] == WON
        sums = [
            sum_by_group(np.where(mask, self.payments.value_minor, 0), index, len(numbers)).tolist()
            for mask in (won, ~won)
        ]
        rows = list(zip(numbers.tolist(), *sums, strict=True))
        return sorted(rows, key=lambda row: (-(row[1] + row[2]), row[0]))


MOST_MONTHS = 120


def _cut(month: Period, period: Period) -> Period:
    if period.starts_on <= month.starts_on and month.ends_on <= period.ends_on:
        return month
    first, last = max(month.starts_on, period.starts_on), min(month.ends_on, period.ends_on)
    return Period(first, last, "span", f"{first}/{last}")


def _months(cash: Cash, query: str) -> list[MonthRow]:
    line, token = cash.line, scope_node(cash.line)[2]
    booked = sums_by_period(line.book, line.snapshot, cash.months, line.scope)
    return [
        MonthRow(
            period_words(row.period),
            row,
            f"{query}&month={row.period.text}",
            working_query(line, token, row.period),
            one.won,
        )
        for row, one in zip(cash.rows, booked, strict=True)
    ]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """What is due month by month, and by customer."""
    line = read_scope(request, "year")
    cash = Cash(line)
    query = line.query(period=line.period.text)
    won, possible = won_and_open(cash.rows)
    months = _months(cash, query)
    sentence = of_cash([(period_words(row.period), row.won_minor, row.open_minor) for row in cash.rows])
    answer = {
        "answer_sentence": answer_sentence(sentence, workings("attainment:cash-working", query, "won")),
        "query": query,
        "kinds": [(name, KIND_WORDS[name]) for name in KINDS],
        "won": won,
        "open": possible,
        "months": months,
        "chart": cash_chart(months, line.as_of, reverse("attainment:cash-working", args=["all"])),
        **_by_account(cash, query),
        "footer": Footer(len(np.unique(cash.payments.rows)), exports=exports("attainment:cash-table", line.query())),
    }
    return render(request, "attainment/cash.html", answer)


def _by_account(cash: Cash, query: str) -> dict[str, Any]:
    """What is due from customers: name, identifier, of won and of open deals, query of the working."""
    accounts = cash.by_account()
    named = accounts_numbered(row[0] for row in accounts[:MOST_ACCOUNTS])
    known = {number: (account.name, account.key) for number, account in named.items()}
    rows = []
    for number, of_won, of_open in accounts[:MOST_ACCOUNTS]:
        name, key = known.get(number, ("without a customer", ""))
        rows.append((name, key, of_won, of_open, f"{query}&account={key}"))
    return {"accounts": rows, "more": max(0, len(accounts) - MOST_ACCOUNTS)}


@require_safe
def working(request: PageRequest, side: str) -> HttpResponse:
    """The payments behind a figure of the calendar."""
    line = read_scope(request, "year")
    one_of(side, SIDES, "is not a figure of the cash calendar", 404)
    month, kind, key = (request.GET.get(name, "") for name in ("month", "kind", "account"))
    cash = Cash(line)
    payments = cash.chosen(month, kind, side, _account(cash, key) if "account" in request.GET else None)
    panel = _panel(line, side, payments, " · ".join(filter(None, (month, KIND_WORDS.get(kind, "")))))
    return panel_response(request, line, panel, f"{reverse('attainment:cash')}?{line.query()}")


def _account(cash: Cash, key: str) -> int:
    if not key:
        return 0
    named = accounts_numbered(row[0] for row in cash.by_account())
    number = next((number for number, account in named.items() if account.key == key), None)
    if number is None:
        raise Refused(f"Account “{key[:60]}” not found. Go back and choose one from the page.", 404)
    return number


def _panel(line: FilterLine, side: str, payments: Payments, words: str) -> Panel:
    snapshot = line.snapshot
    order = np.argsort(-payments.value_minor, kind="stable")
    first = order[:FIRST_DEALS]
    deals = snapshot.deal[payments.rows[first]].tolist()
    keys, names = [line.book.deals.key[deal] for deal in deals], names_of(line.book, deals)
    is_won = snapshot.kind[payments.rows] == WON
    terms = [
        (
            f"of won deals, in full, {plural(int(is_won.sum()), 'payment')}",
            money(int(payments.value_minor[is_won].sum())),
        ),
        (
            f"open deals × probability, {plural(int((~is_won).sum()), 'payment')}",
            money(int(payments.value_minor[~is_won].sum())),
        ),
    ]
    deals = tuple(
        PanelDeal(key, f"{names.get(key, key)}, {day(int(payments.day[i]))}", _part(line, payments, int(i)))
        for key, i in zip(keys, first, strict=True)
    )
    rest = order[FIRST_DEALS:]
    shown = {"won": terms[:1], "open": terms[1:], "all": terms}[side]
    return Panel(
        f"Cash due{', ' + words if words else ''}",
        "Payments of won deals in full and of open deals of included categories × their probability, rounded per payment, by the day "
        "they are due. Bookings differ: a deal is booked in full on the day it is won. Deals without planned payments are not included.",
        tuple(PanelTerm(*term) for term in shown),
        money(int(payments.value_minor.sum())),
        "due",
        deals,
        len(np.unique(payments.rows)),
        len(rest),
        money(int(payments.value_minor[rest].sum())),
        places=np.unique(payments.rows),
    )


def _part(line: FilterLine, payments: Payments, index: int) -> str:
    row = int(payments.rows[index])
    value = money(int(payments.value_minor[index]))
    if line.snapshot.kind[row] == WON:
        return str(value)
    return f"{money(int(payments.amount_minor[index]))} × {points(int(line.snapshot.probability_bp[row]))} = {value}"


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The months as a file."""
    line = read_scope(request, "year")
    header = (
        "month",
        *(f"{side}, {KIND_WORDS[name]}" for side in ("won", "open") for name in KINDS),
        "won",
        "open, weighted",
        "all",
    )
    rows = [
        (row.period.text, *row.won, *row.open, row.won_minor, row.open_minor, row.all_minor) for row in Cash(line).rows
    ]
    return sheet_response(Sheet("cash calendar", header, frozenset(header[1:]), rows), kind)
