"""Accounts: the list, a new one, changing one, merging twins."""

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from django.db.models import Max, Q
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.book.store import books
from wise_tally.core.deal_list import open_by_group
from wise_tally.domain.database import among
from wise_tally.domain.deals.account_actions import ACCOUNTS, merge_accounts, save_account
from wise_tally.domain.deals.activity_actions import require_about
from wise_tally.domain.deals.last_step import changed_rows, rows_of
from wise_tally.domain.deals.models import Account
from wise_tally.domain.deals.selectors import done_contacts
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import local_day, now
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.pages.deals.customers.forms import AccountForm
from wise_tally.pages.deals.customers.last_step import offer_undo
from wise_tally.pages.deals.customers.several import list_context
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_day
from wise_tally.web.forms.choices import key_of
from wise_tally.web.forms.own_fields import own_initial
from wise_tally.web.page_query import PageQuery, text
from wise_tally.web.paging import Page, neighbours, page_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

PAGE = 50


def visible_account(request: PageRequest, key: str) -> Account:
    """The account, if the viewer may open it."""
    return visible(request).account(key, "territory", "owner")


@dataclass(frozen=True)
class AccountRow:
    """An account with what the list shows of it, money in minor units."""

    account: Account
    open_deals: int
    open_minor: int
    last_contact: datetime | None


@dataclass(frozen=True)
class AccountQuery(PageQuery):
    """The filters of the list."""

    find: str = text()
    territory: str = text(name="where")
    owner: str = text()
    page: str = text()


@dataclass(frozen=True)
class AccountList:
    """Accounts with the filters that made the list and what these choose among, as of a day: one page of it, or all."""

    query: AccountQuery
    owners: list[Person]
    territories: list[Territory]
    rows: list[AccountRow]
    page: Page


def _listed(request: PageRequest, whole: bool = False) -> AccountList:
    line = read_day(request)
    reference, day = line.book.reference, line.as_of
    accounts = visible(request).accounts().select_related("territory", "owner").order_by("name", "key")
    owners = list(Person.objects.filter(pk__in=visible(request).accounts().values("owner")).order_by("name"))
    territories = list(Territory.objects.offered().order_by("name"))
    query = AccountQuery.read(line, request.GET)
    query = replace(query, owner=key_of(owners, query.owner), territory=key_of(territories, query.territory))
    if query.find:
        accounts = accounts.filter(name__icontains=query.find)
    if where := query.territory:
        tree, keys = reference.territory_tree(day), [node.key for node in reference.territories]
        if where not in keys:
            raise Refused(f"Territory “{where[:60]}” not found. Choose one of: {', '.join(sorted(keys)[:12])}.", 404)
        accounts = accounts.filter(territory__key__in=[keys[i] for i in tree.below(keys.index(where))])
    if query.owner:
        accounts = accounts.filter(owner__key=query.owner)
    page = page_of(request, accounts.count(), PAGE)
    shown = list(accounts if whole else accounts[page.first : page.last])
    return AccountList(query, owners, territories, _rows(request, line, shown), page)


def _rows(request: PageRequest, line: FilterLine, accounts: list[Account]) -> list[AccountRow]:
    """What is open with each account, of the deals the viewer may see, and the last contact."""
    book = books.stored()
    pairs = [
        (d.pk, d.account_id) for d in visible(request).deals(Q(account__in=among(account.pk for account in accounts)))
    ]
    deals = [(book.index_of(pk), account) for pk, account in pairs]
    order = {account.pk: number for number, account in enumerate(accounts)}
    known = [(index, order[account]) for index, account in deals if index is not None and account is not None]
    totals = open_by_group(line.snapshot, [d for d, _ in known], [g for _, g in known], len(accounts))
    last = dict(_last_contacts(accounts, line))
    return [
        AccountRow(account, totals[number].deals, totals[number].amount_minor, last.get(account.pk))
        for number, account in enumerate(accounts)
    ]


def _last_contacts(accounts: list[Account], line: FilterLine) -> Any:
    return (
        done_contacts()
        .filter(account__in=among(account.pk for account in accounts), at__lt=line.ends_at)
        .values_list("account_id")
        .annotate(last=Max("at"))
    )


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The list of accounts."""
    account_list = _listed(request)
    answer = {
        **list_context(request, "account", account_list.query.line),
        "list": account_list,
        **neighbours(account_list.page, lambda number: account_list.query.query(page=number)),
        "exports": exports("customers:table", account_list.query.query(page=None)),
    }
    return render(request, "customers/accounts.html", answer)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The whole list as CSV, XLSX or JSON."""
    header = ("account", "kind", "territory", "owner", "open deals", "open", "last contact")
    rows = [
        (
            row.account.name,
            row.account.kind,
            row.account.territory.name if row.account.territory else "",
            row.account.owner.name if row.account.owner else "",
            row.open_deals,
            row.open_minor,
            local_day(row.last_contact).isoformat() if row.last_contact else "",
        )
        for row in _listed(request, whole=True).rows
    ]
    return sheet_response(Sheet("accounts", header, frozenset({"open"}), rows), kind)


@require_http_methods(["GET", "HEAD", "POST"])
def new(request: PageRequest) -> HttpResponse:
    """A new account; likely twins are offered before it is made."""
    request.viewer.require(May.CHANGE_OWN_DEALS)
    return _edit(request, None)


@require_http_methods(["GET", "HEAD", "POST"])
def change(request: PageRequest, key: str) -> HttpResponse:
    """What is kept of an account."""
    account = visible_account(request, key)
    require_about(request.viewer, books.current().reference, account, now())
    return _edit(request, account)


def _edit(request: PageRequest, account: Account | None) -> HttpResponse:
    viewer = request.viewer
    owner = account.owner if account else Person.objects.filter(key=viewer.key).first()
    initial = _initial(account) if account else {"owner": viewer.key}
    form = AccountForm(viewer, owner, request.POST if request.method == "POST" else None, initial=initial)
    twins: list[Account] = []
    status, meanwhile = 422 if form.is_bound else 200, None
    if request.method == "POST" and form.is_valid():
        name = form.cleaned_data["name"]
        if account is None and request.POST.get("sure") != "yes":
            twins = visible(request).likely_accounts(name)
        if account is None and (elsewhere := visible(request).twin_elsewhere(name)):
            form.add_error("name", elsewhere)
        elif not twins:
            try:
                key, expected = account.key if account else None, request.POST.get("expected", "")
                saved = save_account(request.viewer, books.current().reference, key, form.cleaned(), now(), expected)
                if account is None:
                    offer_undo(request, saved, f"{saved.name} was added.", changed_rows({}, rows_of(saved)))
                return redirect("customers:account", key=saved.key)
            except ChangedMeanwhile as changed:
                status, meanwhile = 409, changed.now
    answer = {
        "form": form,
        "account": account,
        "twins": twins,
        "meanwhile": meanwhile,
        "expected": ACCOUNTS.text(account) if account else "",
    }
    return render(request, "customers/account_form.html", answer, status=status)


def _initial(account: Account) -> dict[str, Any]:
    return {
        "name": account.name,
        "kind": account.kind or "organisation",
        "territory": account.territory.key if account.territory else "",
        "owner": account.owner.key if account.owner else "",
        "industry": account.industry,
        "country": account.country,
        **own_initial("account", account.key),
    }


@require_http_methods(["GET", "HEAD", "POST"])
def merge(request: PageRequest, key: str) -> HttpResponse:
    """Merge a twin into this account: shown first what would move, then done."""
    account = visible_account(request, key)
    require_about(request.viewer, books.current().reference, account, now())
    chosen = request.POST.get("twin") or request.GET.get("twin", "")
    twin = visible_account(request, chosen) if chosen else None
    if twin is not None and twin.pk == account.pk:
        raise Refused("An account cannot be merged into itself. Choose another account.")
    if twin is not None and request.method == "POST":
        merge_accounts(request.viewer, books.current().reference, twin, account, now())
        return redirect("customers:account", key=account.key)
    moves = _moves(twin) if twin else []
    answer = {"account": account, "twin": twin, "moves": moves, **_offered(request, account)}
    return render(request, "customers/merge.html", answer)


def _offered(request: PageRequest, account: Account) -> dict[str, Any]:
    """Accounts that may be its twin: those searched for, else those with a name like it."""
    may_see, find = visible(request), request.GET.get("find", "").strip()[:200]
    if not find:
        return {"find": find, "offered": may_see.likely_accounts(account.name, account.key)}
    matching = may_see.accounts().filter(name__icontains=find).exclude(pk=account.pk)
    return {"find": find, "offered": matching.order_by("name")[:20]}


def _moves(twin: Account) -> list[tuple[str, int]]:
    return [
        ("deals", twin.deals.count()),
        ("contacts", twin.contacts.count()),
        ("activities", twin.activities.count()),
        ("notes", twin.notes.count()),
        ("invoices", twin.invoices.count()),
        ("orders", twin.orders.count()),
    ]
