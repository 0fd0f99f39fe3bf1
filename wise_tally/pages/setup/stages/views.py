"""Pages of processes and their stages: rules with their effect shown first, order, retiring, merging, history."""

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.core.effect import Effect, StageChange, effect_of
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.actions import StageRefused, merge_stage
from wise_tally.domain.formats import day, plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.actions import RuleInPast, StageEdit, drop_future_rule, set_stages
from wise_tally.domain.process.models import Category, Process, Stage, StageKind, StageRule
from wise_tally.domain.process.stage_actions import (
    NameTaken,
    NewStage,
    StageNeeded,
    add_process,
    add_stage,
    copy_process,
    order_stages,
    rename_process,
    set_process_retired,
    set_retired,
)
from wise_tally.domain.typed_numbers import typed_percent
from wise_tally.pages.setup.ordering import order_of
from wise_tally.pages.setup.stages.form import StageForm, StageRow, read_stage_form, saved_rows
from wise_tally.pages.setup.stages.moments import moments_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest


def process_of(key: str) -> Process:
    """The process of an address."""
    found = Process.objects.filter(key=key).first()
    if found is None:
        raise Http404
    return found


def stage_of(process: Process, key: str) -> Stage:
    """A stage of the process, named by an address or a form."""
    found = process.stages.filter(key=key).first()
    if found is None:
        raise Refused(f"“{key[:64]}” is not a stage of {process.name}. Go back and choose one from the page.", 404)
    return found


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def stages(request: PageRequest, process: str) -> HttpResponse:
    """The stages of a process; the first press shows the effect, the second writes dated rules."""
    found, viewer = process_of(process), request.viewer
    listed = _listed(found)
    if request.method != "POST":
        return _page(request, found, saved_rows(listed, now()))
    form = read_stage_form(request.POST, listed, today(), now())
    if form.faults or form.from_on is None:
        return _page(request, found, form.rows, form=form)
    if "confirmed" not in request.POST:
        return _page(request, found, form.rows, form=form, effect=_effect(form.edits))
    changed = set_stages(viewer, form.edits, form.from_on, now())
    messages.success(
        request, f"{plural(changed, 'stage')} changed from {day(form.from_on)}." if changed else "Nothing was changed."
    )
    return redirect("setup:stages", process=found.key)


def _effect(edits: list[StageEdit]) -> Effect:
    """What the typed rules would do to the deals as they stand today."""
    book = books.current()
    reference = book.reference
    place = {stage.key: index for index, stage in enumerate(reference.stages)}
    category = {item.key: index for index, item in enumerate(reference.categories)}
    least_sure = reference.surest_first[-1] if reference.surest_first else NONE
    changes = {
        place[edit.stage.key]: StageChange(
            edit.probability_bp,
            category[edit.category.key] if edit.category else least_sure,
            None,
            edit.own_probability,
        )
        for edit in edits
        if edit.stage.kind == StageKind.OPEN
    }
    return effect_of(book, book.as_of(today()), changes)


def _merge_effect(source: Stage, target: Stage) -> Effect:
    """What the deals of a stage would weigh in another, as they stand today."""
    book = books.current()
    place = {stage.key: index for index, stage in enumerate(book.reference.stages)}
    rule = book.reference.rules_on(today())[place[target.key]]
    change = StageChange(rule.probability_bp, rule.category, None, target.own_probability)
    return effect_of(book, book.as_of(today()), {place[source.key]: change})


def _listed(process: Process) -> list[Stage]:
    return list(process.stages.filter(retired=False).select_related("category").order_by("position", "key"))


def _page(
    request: PageRequest,
    process: Process,
    rows: list[StageRow],
    form: StageForm | None = None,
    effect: Effect | None = None,
) -> HttpResponse:
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
        "typed_new": request.session.pop("typed_stage", {}),
    }
    return render(request, "setup/stages.html", answer, status=422 if faults else 200)


@require_POST
@changing_needs(May.SET_RULES)
def add(request: PageRequest, process: str) -> HttpResponse:
    """Add a stage; a retired one of the same name is offered instead."""
    found, typed = process_of(process), request.POST
    name, kind, probability = (typed.get(n, "").strip() for n in ("name", "kind", "probability"))
    percent = typed_percent(probability) if kind == StageKind.OPEN else 0
    wrong = ""
    if not name or len(name) > 200:
        wrong = "A stage needs a name of 1 to 200 characters."
    elif kind not in (StageKind.OPEN, StageKind.LOST):
        wrong = "A stage is open or lost; a process has exactly one won stage."
    elif isinstance(percent, str):
        wrong = percent
    if not wrong:
        category = Category.objects.filter(key=typed.get("category", "")).first()
        try:
            stage = add_stage(request.viewer, found, NewStage(name, kind, int(percent), category, None), now())
            messages.success(request, f"{stage.name} was added. It can be used from now on.")
            return redirect("setup:stages", process=found.key)
        except NameTaken as taken:
            wrong = str(taken)
            request.session["restore_stage"] = taken.retired.key if taken.retired else ""
    request.session["typed_stage"] = {"name": name, "kind": kind, "probability": probability, "wrong": wrong}
    request.session["typed_stage"] |= {"restore": request.session.pop("restore_stage", "")}
    return redirect(reverse("setup:stages", args=[found.key]) + "#add")


@require_POST
@changing_needs(May.SET_RULES)
def move(request: PageRequest, process: str) -> HttpResponse:
    """Put the open stages in the order given, or move one a place up or down."""
    found, viewer = process_of(process), request.viewer
    keys = [stage.key for stage in _listed(found) if stage.kind == StageKind.OPEN]
    stage = request.POST.get("stage", "")
    if stage:
        stage_of(found, stage)
    keys = order_of(request.POST.dict(), keys, stage, "Only open stages can be moved up or down.")
    try:
        order_stages(viewer, found, keys, now())
    except StageNeeded as needed:
        raise Refused(str(needed), 409) from needed
    return redirect("setup:stages", process=found.key)


@require_POST
@changing_needs(May.SET_RULES)
def retire(request: PageRequest, process: str) -> HttpResponse:
    """Retire or restore a stage, or merge it into another."""
    found, viewer = process_of(process), request.viewer
    stage, what = stage_of(found, request.POST.get("stage", "")), request.POST.get("what", "")
    try:
        if what == "merge":
            target = stage_of(found, request.POST.get("into", ""))
            if "confirmed" not in request.POST:
                return _stage_page(request, found, stage, {"into": target, "effect": _merge_effect(stage, target)})
            count = merge_stage(viewer, stage, target, now())
            text = f"{plural(count, 'deal')} moved from {stage.name} to {target.name}; {stage.name} is retired."
        elif what in ("retire", "restore"):
            set_retired(viewer, stage, what == "retire", now())
            text = (
                f"{stage.name} is {'retired; its deals stay until they move' if what == 'retire' else 'in use again'}."
            )
        else:
            raise Refused("Choose to retire, restore or merge the stage.")
    except (StageNeeded, StageRefused) as refused:
        raise Refused(str(refused), 409) from refused
    messages.success(request, text)
    return redirect("setup:stages", process=found.key)


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def stage(request: PageRequest, process: str, stage: str) -> HttpResponse:
    """One stage: its rules of all days, those of later days can be taken back."""
    found = process_of(process)
    here = stage_of(found, stage)
    if request.method == "POST":
        number = request.POST.get("rule", "")
        rule = StageRule.objects.filter(stage=here, pk=int(number) if number.isdecimal() else 0).first()
        if rule is None:
            raise Refused("This rule is not there any more; load the page again.", 404)
        try:
            drop_future_rule(request.viewer, rule, now())
        except RuleInPast as refused:
            raise Refused(str(refused), 409) from refused
        messages.success(request, "The planned change was deleted.")
        return redirect("setup:stage", process=found.key, stage=here.key)
    return _stage_page(request, found, here, None)


def _stage_page(request: PageRequest, found: Process, here: Stage, merge: dict[str, Any] | None) -> HttpResponse:
    answer = {
        "process": found,
        "stage": here,
        "merge": merge,
        "rules": here.rules.select_related("category").order_by("-effective_at"),
        "moment": now(),
        "deals_here": _deals_in(here),
        "others": found.stages.filter(kind=StageKind.OPEN, retired=False).exclude(pk=here.pk).order_by("position"),
        "may_edit": request.viewer.may(May.SET_RULES),
        **moments_of(here, request.session.pop("typed_moment", {})),
    }
    return render(request, "setup/stage.html", answer)


def _deals_in(stage: Stage) -> int:
    book = books.current()
    index = next(i for i, found in enumerate(book.reference.stages) if found.key == stage.key)
    return book.as_of(today()).deals_in(index)


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def processes(request: PageRequest) -> HttpResponse:
    """All processes; add one, from the neutral starter, empty or as a copy, rename, retire or restore one."""
    viewer = request.viewer
    typed, wrong = request.POST.get("name", "").strip(), ""
    if request.method == "POST" and request.POST.get("what") in ("retire", "restore"):
        found = process_of(request.POST.get("process", ""))
        try:
            set_process_retired(viewer, found, request.POST["what"] == "retire", now())
            return redirect("setup:processes")
        except StageNeeded as needed:
            wrong = str(needed)
    elif request.method == "POST":
        renamed = Process.objects.filter(key=request.POST.get("process", "")).first()
        same = Process.objects.filter(name__iexact=typed).exclude(key=renamed.key if renamed else "")
        if not typed or len(typed) > 200:
            wrong = "A process needs a name of 1 to 200 characters."
        elif same.exists():
            wrong = f"A process named “{typed}” already exists. Choose another name."
        elif renamed:
            rename_process(viewer, renamed, typed, now())
            return redirect("setup:processes")
        else:
            source = Process.objects.filter(key=request.POST.get("from", "").removeprefix("copy:")).first()
            made = (
                copy_process(viewer, source, typed, now())
                if source
                else add_process(viewer, typed, request.POST.get("from") != "empty", now())
            )
            return redirect("setup:stages", process=made.key)
    may_edit = viewer.may(May.SET_RULES)
    answer = {
        "processes": Process.objects.order_by("retired", "name"),
        "typed": typed,
        "wrong": wrong,
        "may_edit": may_edit,
    }
    return render(request, "setup/processes.html", answer, status=422 if wrong else 200)
