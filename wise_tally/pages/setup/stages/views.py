"""The stages of a process: rules with their effect shown first, a new stage, their order."""

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.core.effect import Effect, StageChange, effect_of
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import day, plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.actions import StageEdit, set_stages
from wise_tally.domain.process.models import Category, Process, Stage, StageKind
from wise_tally.domain.process.stage_actions import (
    NameTaken,
    NewStage,
    add_stage,
    order_stages,
)
from wise_tally.pages.setup.ordering import order_of
from wise_tally.pages.setup.stages.form import StageForm, StageRow, read_stage_form, saved_rows
from wise_tally.pages.setup.stages.forms import NewStageForm
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest


def process_of(key: str) -> Process:
    """The process of an address."""
    return get_object_or_404(Process, key=key)


def stage_of(process: Process, key: str) -> Stage:
    """A stage of the process, named by an address or a form."""
    stage = process.stages.filter(key=key).first()
    if stage is None:
        raise Refused(f"“{key[:64]}” is not a stage of {process.name}. Go back and choose one from the page.", 404)
    return stage


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def stages(request: PageRequest, process: str) -> HttpResponse:
    """The stages of a process, and a new one; the first press shows the effect of rules, the second writes them dated."""
    own_process, viewer = process_of(process), request.viewer
    listed = _listed(own_process)
    if request.method != "POST":
        return _page(request, own_process, saved_rows(listed, now()))
    if request.POST.get("what") == "add":
        return _add(request, own_process)
    form = read_stage_form(request.POST, listed, today(), now())
    if form.faults or form.from_on is None:
        return _page(request, own_process, form.rows, form=form)
    if "confirmed" not in request.POST:
        return _page(request, own_process, form.rows, form=form, effect=_effect(form.edits))
    changed = set_stages(viewer, form.edits, form.from_on, now())
    messages.success(
        request, f"{plural(changed, 'stage')} changed from {day(form.from_on)}." if changed else "Nothing was changed."
    )
    return redirect("setup:stages", process=own_process.key)


def _add(request: PageRequest, process: Process) -> HttpResponse:
    """Add a stage; a retired one of the same name is offered instead."""
    form = NewStageForm(request.POST)
    if form.is_valid():
        typed = form.cleaned_data
        new = NewStage(typed["name"], typed["kind"], typed["probability"] or 0, typed["category"], None)
        try:
            stage = add_stage(request.viewer, process, new, now())
            messages.success(request, f"{stage.name} was added. It can be used from now on.")
            return redirect("setup:stages", process=process.key)
        except NameTaken as taken:
            form.add_error("name", str(taken))
            form.restore = taken.retired
    return _page(request, process, saved_rows(_listed(process), now()), adding=form)


def _effect(edits: list[StageEdit]) -> Effect:
    """What the typed rules would do to the deals as they stand today."""
    book = books.current()
    reference = book.reference
    index_of = {stage.key: index for index, stage in enumerate(reference.stages)}
    category = {item.key: index for index, item in enumerate(reference.categories)}
    least_sure = reference.surest_first[-1] if reference.surest_first else NONE
    changes = {
        index_of[edit.stage.key]: StageChange(
            edit.probability_bp,
            category[edit.category.key] if edit.category else least_sure,
            None,
            edit.own_probability,
        )
        for edit in edits
        if edit.stage.kind == StageKind.OPEN
    }
    return effect_of(book, book.as_of(today()), changes)


def _listed(process: Process) -> list[Stage]:
    return list(process.stages.filter(retired=False).select_related("category").order_by("position", "key"))


def _page(
    request: PageRequest,
    process: Process,
    rows: list[StageRow],
    form: StageForm | None = None,
    effect: Effect | None = None,
    adding: NewStageForm | None = None,
) -> HttpResponse:
    """The stages as kept or as typed, and the form of a new one."""
    faults = form.faults if form else {}
    names = books.current().reference.stages
    answer: dict[str, Any] = {
        "process": process,
        "processes": Process.objects.order_by("name"),
        "rows": rows,
        "typed_day": form.typed_day if form else today().isoformat(),
        "from_on": form.from_on if form else today(),
        "faults": faults,
        "effect": effect,
        "effect_rows": [(names[row.stage].key, names[row.stage].name, row) for row in effect.stages] if effect else [],
        "categories": list(Category.objects.order_by("rank")),
        "retired": process.stages.filter(retired=True).order_by("position"),
        "may_edit": request.viewer.may(May.SET_RULES),
        "adding": adding or NewStageForm(),
    }
    return render(request, "setup/stages.html", answer, status=422 if faults or adding else 200)


@require_POST
@changing_needs(May.SET_RULES)
def move(request: PageRequest, process: str) -> HttpResponse:
    """Put the open stages in the order given, or move one a place up or down."""
    own_process, viewer = process_of(process), request.viewer
    keys = [stage.key for stage in _listed(own_process) if stage.kind == StageKind.OPEN]
    stage = request.POST.get("stage", "")
    if stage:
        stage_of(own_process, stage)
    keys = order_of(request.POST.dict(), keys, stage, "Only open stages can be moved up or down.")
    order_stages(viewer, own_process, keys, now())
    return redirect("setup:stages", process=own_process.key)
