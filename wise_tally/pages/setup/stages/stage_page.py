"""The page of one stage: its settings of all days, its three moments, retiring and merging it."""

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.core.effect import Effect, StageChange, effect_of
from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.actions import merge_stage
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.actions import drop_future_rule
from wise_tally.domain.process.models import Process, Stage, StageKind, StageRule
from wise_tally.domain.process.stage_actions import set_retired
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.setup.stages.moments import CHANGES, TYPED, moments_of
from wise_tally.pages.setup.stages.views import process_of, stage_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest


@require_POST
@changing_needs(May.SET_RULES)
def retire(request: PageRequest, process: str) -> HttpResponse:
    """Retire or restore a stage, or merge it into another."""
    own_process, viewer = process_of(process), request.viewer
    stage, what = stage_of(own_process, request.POST.get("stage", "")), request.POST.get("what", "")
    if what == "merge":
        target = stage_of(own_process, request.POST.get("into", ""))
        if "confirmed" not in request.POST:
            return _page(request, own_process, stage, {"into": target, "effect": _merge_effect(stage, target)})
        count = merge_stage(viewer, stage, target, now())
        text = f"{plural(count, 'deal')} moved from {stage.name} to {target.name}; {stage.name} is retired."
    elif what in ("retire", "restore"):
        set_retired(viewer, stage, what == "retire", now())
        text = f"{stage.name} is {'retired; its deals stay until they move' if what == 'retire' else 'in use again'}."
    else:
        raise Refused("Choose to retire, restore or merge the stage.")
    messages.success(request, text)
    return redirect("setup:stages", process=own_process.key)


def _merge_effect(source: Stage, target: Stage) -> Effect:
    """What the deals of a stage would weigh in another, as they stand today."""
    book = books.current()
    index_of = {stage.key: index for index, stage in enumerate(book.reference.stages)}
    rule = book.reference.rules_on(today())[index_of[target.key]]
    change = StageChange(rule.probability_bp, rule.category, None, target.own_probability)
    return effect_of(book, book.as_of(today()), {index_of[source.key]: change})


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def stage(request: PageRequest, process: str, stage: str) -> HttpResponse:
    """One stage: its rules of all days, of which planned ones can be deleted, and its three moments."""
    own_process = process_of(process)
    stage_record = stage_of(own_process, stage)
    if request.method != "POST":
        return _page(request, own_process, stage_record)
    what = request.POST.get("what", "")
    moment, work = CHANGES.get(what, ("", _drop_planned))
    typed = {name: request.POST.get(name, "").replace("\r\n", "\n") for name in TYPED if name in request.POST}
    try:
        messages.success(request, work(request, stage_record, typed))
    except WriteRefused as refused:
        if not moment:
            raise
        return _page(
            request, own_process, stage_record, moments={"typed": typed, "wrong": str(refused), "moment": moment}
        )
    return redirect(reverse("setup:stage", args=[own_process.key, stage_record.key]) + ("#moments" if moment else ""))


def _drop_planned(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    rule = StageRule.objects.filter(stage=stage, pk=whole_number(request.POST.get("rule", "")) or 0).first()
    if rule is None:
        raise Refused("This rule is not there any more; load the page again.", 404)
    drop_future_rule(request.viewer, rule, now())
    return "The planned change was deleted."


def _page(
    request: PageRequest,
    process: Process,
    stage: Stage,
    merge: dict[str, Any] | None = None,
    moments: dict[str, Any] | None = None,
) -> HttpResponse:
    """The stage as it is kept; `merge` shows the effect of one, `moments` what was typed into one of them and refused."""
    answer = {
        "process": process,
        "stage": stage,
        "merge": merge,
        "rules": stage.rules.select_related("category").order_by("-effective_at"),
        "now": now(),
        "deals_in_stage": _deals_in(stage),
        "others": process.stages.filter(kind=StageKind.OPEN, retired=False).exclude(pk=stage.pk).order_by("position"),
        "may_edit": request.viewer.may(May.SET_RULES),
        **moments_of(stage, **(moments or {})),
    }
    return render(request, "setup/stage.html", answer, status=422 if moments else 200)


def _deals_in(stage: Stage) -> int:
    book = books.current()
    index = next(i for i, one in enumerate(book.reference.stages) if one.key == stage.key)
    return book.as_of(today()).deals_in(index)
