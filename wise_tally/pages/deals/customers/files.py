"""The tables of the account sheet as files."""

from dataclasses import replace

from django.http import HttpResponse
from django.views.decorators.http import require_safe

from wise_tally.core.money import Ints
from wise_tally.domain.deals.models import Account
from wise_tally.domain.formats import iso_day
from wise_tally.pages.deals.customers.accounts import visible_account
from wise_tally.pages.deals.customers.sheet import ledger, open_places, past_places, sales_of
from wise_tally.web.deal_rows import deal_rows
from wise_tally.web.files.tables import Sheet, chosen_sheet
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.viewing import PageRequest

SALES = ("product group", "product", "these days", "last year", "change")


@require_safe
def account_table(request: PageRequest, key: str, kind: str) -> HttpResponse:
    """Open deals, or past ones, sales against last year, or unpaid invoices by age; all of them, not the first few."""
    account = visible_account(request, key)
    line = replace(read_scope(request), any_period=True)
    sheets = {
        "": lambda: _deals(request, line, "open deals", open_places(request, line, account)),
        "past": lambda: _deals(request, line, "past deals", past_places(request, line, account)),
        "sales": lambda: _sales(request, line, account),
        "ageing": lambda: _ageing(line, account),
    }
    return chosen_sheet(request, sheets, kind)


def _sales(request: PageRequest, line: FilterLine, account: Account) -> Sheet:
    rows = [
        (row.product_group, row.product, row.this_minor, row.before_minor, row.change_minor)
        for row in sales_of(request, line, account)["sales"]
    ]
    return Sheet("sales", SALES, frozenset(SALES[2:]), rows)


def _ageing(line: FilterLine, account: Account) -> Sheet:
    rows = [(row.words, row.invoices, row.amount_minor) for row in ledger(line, account)["ageing"]]
    return Sheet("unpaid invoices", ("past due", "invoices", "amount"), frozenset({"amount"}), rows)


def _deals(request: PageRequest, line: FilterLine, name: str, indices: Ints) -> Sheet:
    rows = deal_rows(line, indices.tolist(), request.viewer)
    cells = [
        (
            row.name,
            row.stage_name,
            row.owner_name,
            iso_day(row.expected_close if row.is_open else row.closed_on),
            row.amount_minor,
        )
        for index in indices.tolist()
        if (row := rows.get(index))
    ]
    return Sheet(name, ("deal", "stage", "owner", "expected close or closed", "amount"), frozenset({"amount"}), cells)
