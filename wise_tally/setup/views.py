"""Pages of setup: stages with dated probabilities, and the quota grid."""

from datetime import date
from typing import Any

from babel.numbers import get_currency_precision
from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.org.access import May, teams_seen
from wise_tally.org.clock import now, today
from wise_tally.org.models import Workspace
from wise_tally.process.actions import move_stage, rule_in_force, set_stages
from wise_tally.process.models import Category, Process, Stage, StageKind
from wise_tally.setup.quota_grid import QuotaGrid, quota_grid, read_cells
from wise_tally.setup.stage_form import StageRow, read_stage_form
from wise_tally.shelf.book import shelf
from wise_tally.targets.actions import QuotaChanged, QuotaOverlaps, set_quotas
from wise_tally.ui.refusals import Refused
from wise_tally.ui.templatetags.figures import money


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """What can be set, and what is still missing for a forecast."""
    ground = shelf.book().ground
    missing = []
    if not ground.processes:
        missing.append("a process with stages")
    if not ground.people:
        missing.append("people")
    if not ground.quotas:
        missing.append("quotas")
    answer = {"processes": Process.objects.order_by("name"), "missing": missing, "workspace": Workspace.current()}
    return render(request, "setup/page.html", answer)


def _process(key: str) -> Process:
    found = Process.objects.filter(key=key).first()
    if found is None:
        raise Http404
    return found


@require_http_methods(["GET", "HEAD", "POST"])
def stages(request: HttpRequest, process: str) -> HttpResponse:
    """The stages of a process; saving writes dated rules."""
    found, viewer = _process(process), request.viewer  # type: ignore[attr-defined]
    if request.method != "POST":
        rows = [StageRow.kept(stage, rule_in_force(stage, now())) for stage in _stages(found)]
        return _stages_page(request, found, rows, today().isoformat(), {})
    viewer.require(May.SET_RULES)
    form = read_stage_form(request.POST, _stages(found), today())
    if form.faults or form.from_on is None:
        return _stages_page(request, found, form.rows, form.typed_day, form.faults)
    changed = set_stages(viewer, form.edits, form.from_on, now())
    messages.success(
        request, f"{changed} stages changed from {form.from_on} on." if changed else "Nothing was changed."
    )
    return redirect("setup:stages", process=found.key)


def _stages(process: Process) -> list[Stage]:
    return list(process.stages.filter(retired=False).select_related("category").order_by("position", "key"))


def _stages_page(
    request: HttpRequest, process: Process, rows: list[StageRow], typed_day: str, faults: dict[str, str]
) -> HttpResponse:
    answer = {
        "process": process,
        "processes": Process.objects.order_by("name"),
        "rows": rows,
        "typed_day": typed_day,
        "faults": faults,
        "categories": list(Category.objects.order_by("rank")),
        "may_edit": request.viewer.may(May.SET_RULES),  # type: ignore[attr-defined]
    }
    return render(request, "setup/stages.html", answer, status=422 if faults else 200)


@require_POST
def move(request: HttpRequest, process: str) -> HttpResponse:
    """Move a stage one place up or down."""
    found = _process(process)
    stage = found.stages.filter(key=request.POST.get("stage", ""), kind=StageKind.OPEN).first()
    if stage is None:
        raise Refused("This is not an open stage of the process; accepted: one of its open stages.", 404)
    step = {"up": -1, "down": 1}.get(request.POST.get("to", ""))
    if step is None:
        raise Refused("A stage moves up or down; accepted: up, down.")
    move_stage(request.viewer, stage, step, now())  # type: ignore[attr-defined]
    return redirect("setup:stages", process=found.key)


@require_http_methods(["GET", "HEAD", "POST"])
def quotas(request: HttpRequest) -> HttpResponse:
    """The quota grid of a fiscal year; saving writes new versions of the changed cells."""
    book, viewer = shelf.book(), request.viewer  # type: ignore[attr-defined]
    if viewer.sees_own_only:
        raise PermissionDenied("Quotas of others are not open to you; your own stand on Attainment.")
    seen = teams_seen(viewer, book.ground, today())
    year = _year(request, book.ground.fiscal.fiscal_year_of(today()))
    decimals = get_currency_precision(Workspace.current().currency)
    if request.method != "POST":
        return _quota_page(request, quota_grid(book, year, today(), seen))
    viewer.require(May.SET_RULES)
    cells, typed, faults = read_cells(request.POST, book, year, today(), seen, decimals)
    if not faults:
        try:
            count = set_quotas(viewer, cells, now())
            messages.success(request, f"{count} cells set." if count else "Nothing was changed.")
            return redirect(f"{reverse('setup:quotas')}?year={year}")
        except QuotaChanged as changed:
            message = f"Set to {money(changed.now)} by somebody else meanwhile; save again to put your value over it."
            faults[_cell_name(changed.cell.subject, changed.cell.subject_key, changed.cell.starts_on)] = message
        except QuotaOverlaps as overlap:
            faults[_cell_name(overlap.cell.subject, overlap.cell.subject_key, overlap.cell.starts_on)] = str(overlap)
    return _quota_page(request, quota_grid(book, year, today(), seen, typed, faults), 422)


def _cell_name(subject: str, key: str, starts_on: date) -> str:
    return f"{subject}:{key}:{starts_on}"


def _year(request: HttpRequest, default: int) -> int:
    text = request.GET.get("year", str(default))
    if not (text.isascii() and text.isdigit() and 1902 <= int(text[:5]) <= 2198):
        raise Refused(f"“{text[:20]}” is not a fiscal year; accepted: a year such as {default}.")
    return int(text)


def _quota_page(request: HttpRequest, grid: QuotaGrid, status: int = 200) -> HttpResponse:
    answer: dict[str, Any] = {"grid": grid, "may_edit": request.viewer.may(May.SET_RULES)}  # type: ignore[attr-defined]
    return render(request, "setup/quotas.html", answer, status=status)
