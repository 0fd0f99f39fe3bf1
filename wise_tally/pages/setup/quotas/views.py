"""Pages of the quota plan: the grid with its tools, the sheet out and in, undo, curves and custom periods."""

from typing import Any

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.core.errors import CoreError
from wise_tally.core.number_reader import whole_number
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, visible_teams
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.targets.actions import (
    QuotaCell,
    QuotaChanged,
    QuotaOverlaps,
    recent_changes,
    set_holds,
    set_quotas,
    undo_quotas,
)
from wise_tally.domain.targets.models import CustomPeriod, Metric, QuotaChange, SeasonCurve
from wise_tally.pages.setup.quotas.grid import Typed, plan_page, quota_grid, read_cells, read_holds, saved_values
from wise_tally.pages.setup.quotas.parts import CurveForm, CustomPeriodForm, save_curve, save_period
from wise_tally.pages.setup.quotas.sheet import plan_sheet, read_sheet
from wise_tally.pages.setup.quotas.tool_words import tool_words
from wise_tally.pages.setup.quotas.tools import fill
from wise_tally.pages.setup.quotas.view import MANAGERS, PlanNode, PlanView, filter_choices, nodes_of, read_view
from wise_tally.web.files.tables import sheet_response
from wise_tally.web.files.uploads import UploadRefused, read_upload
from wise_tally.web.paging import neighbours
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

SHOWN_CHANGES = 5
# Nothing is filled or saved: the page with what is typed, so that its sums can be read.
SUMS = "sums"
SETTINGS = ("row", "total", "given", "percent", "step", "levels", "curve", "weights", "managers")
WHAT = {
    "spread-year": "distributed over the year",
    "spread-down": "distributed to rows below",
    "roll-up": "rolled up",
    "copy-year": "copied from the year before",
    "sheet": "read from a sheet",
}


def opened(request: PageRequest) -> tuple[PlanView, list[PlanNode]]:
    """The view asked for and the rows that the viewer may open."""
    book, viewer = books.current(), request.viewer
    if viewer.sees_own_only:
        raise PermissionDenied("You cannot see other people’s quotas. Yours is on the Attainment page.")
    view = read_view(request.GET.dict(), book.reference, today())
    return view, nodes_of(book, view, today(), visible_teams(viewer, book.reference, today()))


@require_http_methods(["GET", "HEAD", "POST"])
def quotas(request: PageRequest) -> HttpResponse:
    """The quota grid; a tool or a sheet fills it, saving writes new versions of the changed cells."""
    view, nodes = opened(request)
    if request.method != "POST":
        return _page(request, view, nodes)
    request.viewer.require(May.SET_RULES)
    cells, typed, faults = read_cells(request.POST.dict(), view, nodes)
    if "file" in request.FILES or request.POST.get("tool") == "sheet":
        return _sheet(request, view, nodes)
    if request.POST.get("tool") == SUMS:
        return _page(request, view, nodes, typed, faults)
    if faults or not request.POST.get("tool"):
        return _save(request, view, nodes, cells, typed, faults)
    try:
        filled = fill(books.current(), view, nodes, today(), request.POST.dict(), typed)
    except CoreError as wrong:
        return _page(request, view, nodes, typed, {"": str(wrong)})
    return _page(request, view, nodes, filled, what=request.POST["tool"])


def _save(
    request: PageRequest,
    view: PlanView,
    nodes: list[PlanNode],
    cells: list[QuotaCell],
    typed: Typed,
    faults: dict[str, str],
) -> HttpResponse:
    viewer, what = request.viewer, WHAT.get(request.POST.get("what", ""), "typed")
    if not faults:
        try:
            count = set_quotas(viewer, books.current().reference, cells, now(), view.kind, what)
            if "holds-shown" in request.POST:
                set_holds(
                    viewer, books.current().reference, view.kind, *read_holds(request.POST.dict(), view, nodes), now()
                )
            messages.success(request, f"{plural(count, 'cell')} set." if count else "Nothing was changed.")
            return redirect(f"{reverse('setup:quotas')}?{view.query()}")
        except QuotaChanged as changed:
            message = (
                f"Somebody else has changed this to “{view.shown(changed.now) or 'nothing'}”. Save again to overwrite."
            )
            faults[f"{changed.cell.subject}:{changed.cell.subject_key}:{changed.cell.starts_on}"] = message
        except QuotaOverlaps as overlap:
            faults[f"{overlap.cell.subject}:{overlap.cell.subject_key}:{overlap.cell.starts_on}"] = str(overlap)
    return _page(request, view, nodes, typed, faults)


def _sheet(request: PageRequest, view: PlanView, nodes: list[PlanNode]) -> HttpResponse:
    """An uploaded sheet fills the grid; nothing is saved before the changes were seen."""
    try:
        typed, faults = read_sheet(read_upload(request.FILES.get("file")), view, nodes)
    except UploadRefused as refused:
        return _page(request, view, nodes, {}, {"": str(refused)})
    return _page(request, view, nodes, typed, faults, "sheet")


def _page(
    request: PageRequest,
    view: PlanView,
    nodes: list[PlanNode],
    typed: Typed | None = None,
    faults: dict[str, str] | None = None,
    what: str = "",
) -> HttpResponse:
    book = books.current()
    grid = quota_grid(book, view, nodes, today(), typed, faults)
    settings = {name: request.POST.get(name, "") for name in SETTINGS}
    settings["step"] = settings["step"] if settings["row"] else "100"
    lines, page = grid.lines, plan_page(nodes, view)
    answer: dict[str, Any] = {
        "grid": grid,
        "hidden": len(nodes) - len(lines) if view.tree == "people" else 0,
        "turned": {"page": page, **neighbours(page, lambda number: view.query(page=number))},
        "teams": [(node.token, node.name) for node in nodes if node.subject == "team"],
        "view": view,
        "what": what,
        "changes": [cell for line in lines for cell in line.cells if cell.filled][:200] if what == "sheet" else [],
        "headings": _headings(view),
        "before_query": view.query(year=view.year - 1),
        "after_query": view.query(year=view.year + 1),
        "only": _only(view, book.reference),
        "typed": settings,
        "words": tool_words(view, nodes, settings),
        "managers": MANAGERS,
        "metrics": Metric.choices,
        "curves": SeasonCurve.objects.order_by("name"),
        "custom_periods": CustomPeriod.objects.order_by("starts_on"),
        "recent": recent_changes(request.viewer, book.reference, today(), SHOWN_CHANGES),
        "may_edit": request.viewer.may(May.SET_RULES),
    }
    return render(request, "setup/quotas.html", answer, status=422 if faults else 200)


@require_safe
def words(request: PageRequest) -> HttpResponse:
    """What each tool would do with the settings of the address."""
    view, nodes = opened(request)
    request.viewer.require(May.SET_RULES)
    return JsonResponse(tool_words(view, nodes, request.GET.dict()))


def _headings(view: PlanView) -> list[tuple[str, bool]]:
    """Months with each quarter's sum after its third; one span for a custom period."""
    if not view.by_month:
        return [("the period", False)]
    headings: list[tuple[str, bool]] = []
    for number, month in enumerate(view.periods, 1):
        headings.append((f"{month.starts_on:%b %Y}", False))
        if number % 3 == 0:
            headings.append((f"Q{number // 3}", True))
    return headings


def _only(view: PlanView, reference: ReferenceData) -> list[tuple[str, str, str, list[str]]]:
    """Name, label, chosen value and choices of each filter."""
    return [
        (name, name.replace("_", " "), view.kind.columns[name], values)
        for name, values in filter_choices(reference).items()
    ]


@require_safe
def sheet(request: PageRequest, kind: str) -> HttpResponse:
    """The plan shown as CSV, XLSX or JSON, filled with what is there."""
    view, nodes = opened(request)
    return sheet_response(plan_sheet(view, nodes, saved_values(books.current(), view, nodes, today())), kind)


@require_POST
@changing_needs(May.SET_RULES)
def undo(request: PageRequest) -> HttpResponse:
    """Put a saved change back."""
    change = QuotaChange.objects.filter(pk=whole_number(request.POST.get("change", "")) or 0).first()
    if change is None:
        raise Refused("This change no longer exists. Choose one from the list below the plan.", 404)
    count = undo_quotas(request.viewer, books.current().reference, change, now())
    messages.success(request, f"{plural(count, 'cell')} restored.")
    return redirect("setup:quotas")


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def parts(request: PageRequest) -> HttpResponse:
    """Season curves and custom periods."""
    posted, viewer = request.POST if request.method == "POST" else None, request.viewer
    is_curve = posted is not None and "curve" in posted
    curve = CurveForm(posted if is_curve else None, months=books.current().reference.fiscal.months_of(2001))
    period = CustomPeriodForm(None if is_curve else posted)
    if curve.is_bound and curve.is_valid():
        save_curve(viewer, curve, now())
        return redirect("setup:quota-parts")
    if period.is_bound and period.is_valid():
        save_period(viewer, period, now())
        return redirect("setup:quota-parts")
    answer = {
        "curve": curve,
        "period": period,
        "curves": SeasonCurve.objects.order_by("name"),
        "periods": CustomPeriod.objects.order_by("starts_on"),
        "may_edit": viewer.may(May.SET_RULES),
    }
    return render(request, "setup/quota_parts.html", answer, status=422 if curve.errors or period.errors else 200)
