"""Pages of deals: the list, one deal with its revisions, a change."""

from dataclasses import replace
from typing import Any
from urllib.parse import urlencode

from babel.numbers import get_currency_precision
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.deal_pages.bulk import bulk, bulk_choices
from wise_tally.deal_pages.lanes import lanes_context
from wise_tally.deal_pages.listing import QUICK, listing
from wise_tally.deal_pages.one import deal_context, open_deal
from wise_tally.deal_pages.parts import last_part
from wise_tally.deal_pages.undo import remember_change
from wise_tally.deals.actions import OldState, StageRefused, Typed, change_deal, last_revision
from wise_tally.deals.entry import DetailRefused
from wise_tally.deals.forms import DealForm, read_deal_form
from wise_tally.deals.models import Deal
from wise_tally.org.clock import now
from wise_tally.org.models import Workspace
from wise_tally.process.models import Category
from wise_tally.scope.deals import deal_rows, stage_choices
from wise_tally.scope.guard import safe_next
from wise_tally.scope.line import ScopeLine, read_scope
from wise_tally.scope.strip import CountStrip
from wise_tally.scope.tables import Sheet, sheet_response
from wise_tally.shelf.book import shelf

STATUS_WORDS = (
    ("open", "open"),
    ("period", "won, lost or due in the period"),
    ("won", "won"),
    ("lost", "lost"),
    ("all", "all"),
)


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: HttpRequest) -> HttpResponse:
    """The list of deals, or their lanes; posting changes several at once."""
    if request.method == "POST":
        return bulk(request)
    line = read_scope(request)
    if request.GET.get("view") == "lanes":
        return render(request, "deals/lanes.html", lanes_context(request, line))
    found = listing(line, request)
    line = request.scope_line = replace(line, any_period=found.status != "period")  # type: ignore[attr-defined]
    rows = deal_rows(line, found.places, request.viewer)  # type: ignore[attr-defined]
    exports = tuple(
        (k.upper(), f"{reverse('deals:table', args=[k])}?{found.query(line)}") for k in ("csv", "xlsx", "json")
    )
    answer = {
        "line": line,
        "list": found,
        "rows": list(rows.values()),
        "stages": stage_choices(),
        "statuses": STATUS_WORDS,
        "quick": [
            (name, words, found.query(line, only="" if name == found.only else name)) for name, words in QUICK.items()
        ],
        "sorts": {
            name: _sort_link(line, found, name) for name in ("amount", "weighted", "close", "stage", "owner", "days")
        },
        "lanes_query": urlencode([*line.given, ("view", "lanes")]),
        "bulk": bulk_choices(),
        "bulk_undo": len(request.session.get("last_bulk", [])),
        "may_edit": not line.is_past,
        "here": request.get_full_path(),
        "before": found.query(line, page=str(found.page - 1)) if found.page > 1 else "",
        "after": found.query(line, page=str(found.page + 1)) if found.page < found.pages else "",
        "strip": CountStrip(found.total, exports=exports),
    }
    return render(request, "deals/page.html", answer)


def _sort_link(line: ScopeLine, found: Any, name: str) -> str:
    return str(found.query(line, sort=name if found.sort == f"-{name}" else f"-{name}"))


@require_safe
def table(request: HttpRequest, kind: str) -> HttpResponse:
    """The page of the list as CSV, XLSX or JSON."""
    line = read_scope(request)
    rows = deal_rows(line, listing(line, request).places).values()
    names = (
        "key",
        "name",
        "account_name",
        "stage_name",
        "category_name",
        "owner_name",
        "amount_minor",
        "weighted_minor",
    )
    sheet = Sheet("deals", names, frozenset(names[-2:]), [tuple(getattr(r, n) for n in names) for r in rows])
    return sheet_response(sheet, kind)


@require_safe
def deal(request: HttpRequest, key: str) -> HttpResponse:
    """One deal: its state, its trail, what belongs to it, all that happened to it."""
    found = open_deal(request, key)
    return render(request, "deals/deal.html", {**deal_context(request, found), "last_part": last_part(request, found)})


@require_POST
def change(request: HttpRequest, key: str) -> HttpResponse:
    """A change typed into a row or the deal page: written, or refused with what was typed kept."""
    found = open_deal(request, key)
    form = read_deal_form(request.POST, found, get_currency_precision(Workspace.current().currency))
    if form.state is None:
        return _refused(request, found, form, 422)
    viewer = request.viewer  # type: ignore[attr-defined]
    typed, seen = Typed(form.answers, form.details), last_revision(found)
    try:
        change_deal(viewer, shelf.book().ground, found, form.revision, form.state, form.typed["reason"], now(), typed)
    except (StageRefused, DetailRefused) as refused:
        form.faults["stage"] = str(refused)
        form.ask_for(refused.lacking if isinstance(refused, StageRefused) else ())
        return _refused(request, found, form, 422)
    except OldState as old:
        return _refused(request, found, form, 409, old)
    except PermissionDenied as denied:
        form.faults["deal"] = str(denied)
        return _refused(request, found, form, 403)
    remember_change(request, found, seen)
    return redirect(safe_next(request, reverse("deals:deal", args=[found.key])))


def _refused(
    request: HttpRequest, found: Deal, form: DealForm, status: int, old: OldState | None = None
) -> HttpResponse:
    answer = {
        "deal": found,
        "form": form,
        "old": old,
        "stages": stage_choices().get(found.process.key, []),
        "categories": list(Category.objects.order_by("rank")),
        "revision": last_revision(found).pk,
        "next": safe_next(request, reverse("deals:deal", args=[found.key])),
    }
    return render(request, "deals/refused.html", answer, status=status)
