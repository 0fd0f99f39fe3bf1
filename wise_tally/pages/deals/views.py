"""Pages of deals: the list, one deal with its revisions, a change."""

from dataclasses import replace
from typing import Any

from babel.numbers import get_currency_precision
from django.http import HttpResponse, QueryDict
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.core.answers.results import of_deals
from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.actions import change_deal
from wise_tally.domain.deals.models import DealRevision
from wise_tally.domain.deals.view_actions import views_of
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.org.typed_days import SPANS
from wise_tally.domain.process.models import Category
from wise_tally.pages.deals.board import lanes_context
from wise_tally.pages.deals.bulk import BulkForm, bulk
from wise_tally.pages.deals.closing_chart import closing
from wise_tally.pages.deals.columns import all_columns, cells, row_data
from wise_tally.pages.deals.deal_page import deal_context, open_deal
from wise_tally.pages.deals.filter_chips import filter_chips
from wise_tally.pages.deals.listing import QUICK, Listing, listing
from wise_tally.pages.deals.parts import last_part
from wise_tally.pages.deals.saved import start_view
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.deal_rows import DealRow, deal_rows, stage_choices
from wise_tally.web.deal_saving import put_back, save
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.forms.deal import read_deal_form
from wise_tally.web.paging import neighbours
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

# A file of the list holds at most so many deals.
MOST_ROWS = 20_000
STATUS_WORDS = (
    ("open", "open"),
    ("period", "won, lost or due in the period"),
    ("won", "won"),
    ("lost", "lost"),
    ("all", "all"),
)


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """The list of deals, or their lanes; posting changes several at once."""
    if request.method == "POST":
        return bulk(request)
    if start := start_view(request):
        return redirect(start)
    line = read_scope(request)
    if request.GET.get("view") == "lanes":
        return render(request, "deals/lanes.html", lanes_context(request, line))
    deal_list = listing(line, request, strict=False)
    line = request.filter_line = replace(line, any_period=deal_list.query.status != "period")
    wrong = deal_list.faulty or (deal_list.form and deal_list.form.fault)
    return render(request, "deals/page.html", list_context(request, line, deal_list), status=422 if wrong else 200)


# What a new search keeps of the list: its order, quick filter, columns and conditions.
CARRIED_ON = ("sort", "only", "cols", "f", "join", "counted")


def _answer(deal_list: Listing, rows: list[DealRow]) -> SafeString:
    """How many deals for how much, and one that outweighs the rest, in one sentence."""
    largest = max(rows, key=lambda row: row.amount_minor or 0, default=None)
    sentence = of_deals(
        deal_list.total,
        deal_list.amount_minor,
        deal_list.weighted_minor,
        (largest.name, largest.amount_minor or 0) if largest else None,
    )
    return answer_sentence(
        sentence, workings("deals:list-figure", deal_list.query.query(), "amount", "weighted", "deals")
    )


def list_context(request: PageRequest, line: FilterLine, deal_list: Listing) -> dict[str, Any]:
    """What the page of the list shows."""
    query, rows = deal_list.query, deal_rows(line, deal_list.places, request.viewer)
    data = row_data(line, rows, deal_list.columns)
    return {
        **({} if "edit" in request.GET else closing(line, deal_list)),
        "answer_sentence": _answer(deal_list, list(rows.values())),
        "list": deal_list,
        "rows": list(rows.values()),
        "table": [(row, cells(deal_list.columns, data[index])) for index, row in rows.items()],
        "sorted_words": _sorted_words(deal_list),
        **_columns(deal_list),
        **_filters(line, deal_list),
        **_editing(request, line, deal_list),
        "views": views_of(request.viewer),
        "view_query": query.query(),
        "this_page": request.get_full_path(),
        **neighbours(deal_list.page, lambda number: query.query(page=number)),
        "footer": Footer(deal_list.total, exports=exports("deals:table", query.query())),
    }


def _columns(deal_list: Listing) -> dict[str, Any]:
    """The heads with what sorts by them, the totals, and the columns to choose from."""
    query, shown = deal_list.query, [column.name for column in deal_list.columns]
    totals = {"amount": deal_list.amount_minor, "weighted": deal_list.weighted_minor}
    return {
        "heads": [(one, query.sorted_by(one.name), _sign(deal_list, one.name)) for one in deal_list.columns],
        "totals": [totals.get(name) for name in shown],
        "columns": [(c, shown.index(c.name) + 1 if c.name in shown else None) for c in deal_list.known.values()],
    }


def _filters(line: FilterLine, deal_list: Listing) -> dict[str, Any]:
    """The filters that are on, the quick ones, and the form of a new one."""
    query = deal_list.query
    return {
        "statuses": STATUS_WORDS,
        "quick": [(*words, query.with_quick(key), key in query.only) for key, words in QUICK.items()],
        "groups": filter_chips(deal_list),
        "new_filter": deal_list.form,
        "new_choices": _names_of_choice(line, deal_list),
        "spans": SPANS,
        "own": query.own(),
        "carried_names": CARRIED_ON,
        "all_query": query.query(counted=None),
    }


def _editing(request: PageRequest, line: FilterLine, deal_list: Listing) -> dict[str, Any]:
    """What may be changed here: one deal in its row, several at once, a new one."""
    edits, page = "edit" in request.GET, str(deal_list.page.number)
    return {
        "stages": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
        "bulk": BulkForm(),
        "bulk_undo": len(request.session.get("last_bulk", [])),
        "may_edit": not line.is_past,
        "in_place": edits and not line.is_past,
        "edit_query": deal_list.query.query(page=page, edit="" if edits else "yes"),
        "may_add": not line.is_past and request.viewer.may(May.CHANGE_OWN_DEALS),
    }


def _names_of_choice(line: FilterLine, deal_list: Listing) -> list[str]:
    """The names that a filter about a choice offers, each once."""
    names = deal_list.form.column.names if deal_list.form else None
    return list(dict.fromkeys(name for _, name in names(line))) if names else []


def _sign(deal_list: Listing, name: str) -> str:
    """An arrow at the column that the list is sorted by first, with its place at the others."""
    for index, sort in enumerate(deal_list.sorts, 1):
        if sort.removeprefix("-") == name:
            return ("↓" if sort.startswith("-") else "↑") + (str(index) if len(deal_list.sorts) > 1 else "")
    return ""


def _sorted_words(deal_list: Listing) -> str:
    words = [
        f"{deal_list.known[s.removeprefix('-')].words} {'high to low' if s[0] == '-' else 'low to high'}"
        for s in deal_list.sorts
    ]
    return ", then ".join(words)


@require_POST
def choose_columns(request: PageRequest) -> HttpResponse:
    """The columns of the list in the order of the numbers typed; those without a number are hidden."""
    chosen = []
    for index, name in enumerate(all_columns()):
        text = request.POST.get(f"column:{name}", "").strip()
        if text:
            if (position := whole_number(text, 999)) is None:
                raise Refused(
                    f"“{text[:20]}” is not a position. Enter a whole number, or leave it empty to hide the column.", 422
                )
            chosen.append((position, index, name))
    query = QueryDict(request.POST.get("query", ""), mutable=True)
    query["cols"] = ",".join(name for *_, name in sorted(chosen))
    return redirect(f"{reverse('deals:page')}?{query.urlencode()}")


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The whole list with its columns, in its order, as CSV, XLSX or JSON."""
    line = read_scope(request)
    deal_list = listing(line, request)
    if deal_list.total > MOST_ROWS:
        raise Refused(
            f"The list has {plural(deal_list.total, 'deal')}; a file can hold {MOST_ROWS}. Filter the list first.",
            422,
        )
    rows = deal_rows(line, deal_list.all_places.tolist())
    data = row_data(line, rows, deal_list.columns)
    columns = [column for column in deal_list.columns if column.name != "name"]
    header = ("id", "deal", *(column.words for column in columns))
    money = frozenset(column.words for column in columns if column.kind == "money")
    content = [
        (row.key, row.name, *(None if c.value is None else c.plain for c in cells(columns, data[index])))
        for index, row in rows.items()
    ]
    return sheet_response(Sheet("deals", header, money, content), kind)


@require_safe
def deal(request: PageRequest, key: str) -> HttpResponse:
    """One deal: its state, its trail, what belongs to it, all that happened to it."""
    record = open_deal(request, key)
    return render(
        request, "deals/deal.html", {**deal_context(request, record), "last_part": last_part(request, record)}
    )


@require_POST
def change(request: PageRequest, key: str) -> HttpResponse:
    """A change typed into a row or the deal page: written, or refused with what was typed kept."""
    record = open_deal(request, key)
    form = read_deal_form(request.POST, record, get_currency_precision(Workspace.current().currency))
    viewer, reference = request.viewer, books.current().reference

    def write() -> DealRevision:
        assert form.state is not None
        return change_deal(
            viewer, reference, record, form.revision, form.state, form.typed["reason"], now(), form.further
        )

    return save(request, record, form, write)


@require_POST
def revert(request: PageRequest, key: str) -> HttpResponse:
    """The last change of a deal put back."""
    return put_back(request, open_deal(request, key))
