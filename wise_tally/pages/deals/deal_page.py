"""One deal on one screen: what the page of a deal shows, read for the viewer."""

import math
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np
from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.cash import Plan, whole_minor
from wise_tally.core.customer import contact_gap
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.contact_intervals import interval_of
from wise_tally.domain.deals.entry import Lacking, facts_of, missing_before, skipped_before
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.own_fields import own_shown
from wise_tally.domain.deals.parts import PARTS
from wise_tally.domain.deals.selectors import closed_from, contact_days, last_contacts
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import as_text
from wise_tally.domain.process.models import Category, LostReason, Stage, StageKind
from wise_tally.domain.process.moment_actions import PLANNED
from wise_tally.pages.deals.course_charts import course_charts
from wise_tally.pages.deals.customers.journal import journal_of
from wise_tally.pages.deals.details import details_form
from wise_tally.pages.deals.history import history
from wise_tally.pages.deals.part_forms import shown_form, shown_lines
from wise_tally.pages.deals.part_sums import sums_of
from wise_tally.pages.deals.stage_history import stage_stays, stages_chart
from wise_tally.pages.deals.undo import last_change
from wise_tally.web.chances import chance_column, chances_of, claimed
from wise_tally.web.deal_rows import DealRow, deal_rows, stage_choices
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.forms.deal import read_closing
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility, visible


def open_deal(request: PageRequest, key: str) -> Deal:
    """The deal, if the viewer may open it; a deal of others looks like one that does not exist."""
    return visible(request).deal(key, "process", "account", "contact", "partner")


@dataclass(frozen=True)
class Step:
    """A stage a deal may go to next: in words, what its entry checks miss, and whether it is the way on."""

    words: str
    stage: Stage
    lacking: tuple[Lacking, ...]
    on: bool = False


def next_steps(deal: Deal, last: DealRevision, viewer: Viewer) -> tuple[Step, ...]:
    """On to the next stage in use, back to the one before, won and lost; with what is missing before each."""
    stages = list(deal.process.stages.filter(retired=False).order_by("position", "key"))
    open_stages = [stage for stage in stages if stage.kind == StageKind.OPEN]
    after = [stage for stage in open_stages if stage.position > last.stage.position]
    before = [stage for stage in open_stages if stage.position < last.stage.position]
    won = [stage for stage in stages if stage.kind == StageKind.WON]
    lost = [stage for stage in stages if stage.kind == StageKind.LOST]
    if last.stage.kind != StageKind.OPEN and open_stages:
        from_stage = closed_from(deal) or open_stages[-1]
        again = from_stage if from_stage in open_stages else next(iter(before[-1:]), open_stages[-1])
        return (Step(f"Reopen in {again.name}", again, ()),)
    onward = [(f"Move to {stage.name}", stage) for stage in after[:1]]
    wanted = [*onward, *((f"Move back to {stage.name}", stage) for stage in before[-1:])]
    wanted += [("Won" if len(won) == 1 else stage.name, stage) for stage in won]
    wanted += [("Lost" if len(lost) == 1 else stage.name, stage) for stage in lost]
    missing = missing_before([stage for _, stage in wanted], facts_of(deal, last, viewer, today()))
    steps = []
    for words, stage in wanted:
        lacking = [Lacking(text) for text in skipped_before(deal, last.stage, stage)]
        steps.append(Step(words, stage, (*lacking, *missing[stage.pk]), stage in after))
    return tuple(steps)


def deal_context(request: PageRequest, deal: Deal) -> dict[str, Any]:
    """Everything the page of a deal shows."""
    line = request.filter_line = replace(read_scope(request), any_period=True)
    viewer = request.viewer
    index = books.stored().index_of(deal.pk)
    row = _row(line, index, viewer)
    may_edit = not line.is_past and row is not None and row.may_change
    last = last_revision(deal)
    steps = next_steps(deal, last, viewer) if may_edit else ()
    return {
        "deal": deal,
        "row": row,
        "last": last,
        "stages": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
        **_stages(line, index, row),
        **_chance(line, row, index),
        **journal_of(request, deal, line.ends_at, history(deal, line.snapshot.cut)),
        "courses": course_charts(line, deal),
        "may_edit": may_edit,
        "this_page": request.get_full_path(),
        "undo": last_change(request, deal.key),
        "steps": [step for step in steps if step.stage.kind == StageKind.OPEN],
        "next_step": next((step for step in steps if step.on or step.stage.kind == StageKind.WON), None),
        **_closings(steps),
        **_belonging(deal, visible(request), may_edit, last.amount_minor),
        **_talk(deal, line, last.stage),
        "footer": Footer(1 if row else 0),
    }


def _closings(steps: tuple[Step, ...]) -> dict[str, Any]:
    """How the deal may be closed, and what closing it asks."""
    closings = [step for step in steps if step.stage.kind != StageKind.OPEN]
    if not closings:
        return {"closings": []}
    lost_reasons = LostReason.objects.offered().order_by("name")
    return {"closings": closings, "closing": read_closing({}, "", ""), "lost_reasons": lost_reasons}


def _stages(line: FilterLine, index: int | None, row: DealRow | None) -> dict[str, Any]:
    """The deal's way through the stages, and whether there is none because it came without history."""
    if index is None or row is None:
        return {"stays": []}
    stays = stage_stays(line, index)
    return {
        "stays": stays,
        "chart": stages_chart(line, stays, row.expected_close if row.is_open else NO_DAY),
        "short_form": not stays and bool(line.book.deals.short_form[index]),
    }


def _chance(line: FilterLine, row: DealRow | None, index: int | None) -> dict[str, Any]:
    """The deal's chance to be won in the period, and why."""
    if row is None or index is None or not row.is_open:
        return {}
    state_row = int(np.searchsorted(line.snapshot.deal, index))
    chance = float(chance_column(line, np.array([state_row]))[0])
    if math.isnan(chance):
        return {}
    given = chances_of(line, [state_row])[state_row]
    return {"chance": given, "chance_words": given.words(line), "claimed": claimed(line, state_row, chance)}


def _row(line: FilterLine, index: int | None, viewer: Viewer) -> DealRow | None:
    if index is None:
        return None
    row = int(np.searchsorted(line.snapshot.deal, index))
    if row >= len(line.snapshot.deal) or int(line.snapshot.deal[row]) != index:
        return None
    return deal_rows(line, [row], viewer).get(row)


def _belonging(deal: Deal, visible: Visibility, may_edit: bool, amount_minor: int) -> dict[str, Any]:
    """The parts with their forms, and what is shown of them."""
    day = today()
    parts = {name: part.read(deal, day) for name, part in PARTS.items()}
    forms: dict[str, Any] = {}
    if may_edit:
        forms = {name: shown_form(name, deal, parts[name]) for name in ("lines", "payments", "contacts", "credits")}
        forms["details"] = details_form(deal, visible, parts["details"])
    rows = ("lines", "payments", "credits")
    return {
        "forms": forms,
        "sums": {name: sums_of(forms[name], amount_minor) for name in rows} if may_edit else {},
        "expected": {name: as_text(state) for name, state in parts.items()} if may_edit else {},
        "lines": shown_lines(deal),
        "payments": _payments(deal),
        "contacts": deal.contacts.select_related("contact").order_by("contact__name"),
        "credits": _shares(parts["credits"]["rows"]),
        "own_values": own_shown("deal", deal.key),
    }


def _shares(rows: list[dict[str, Any]]) -> list[tuple[str, int]]:
    names = dict(Person.objects.filter(key__in=[row["person"] for row in rows]).values_list("key", "name"))
    return [(names[row["person"]], row["share_bp"]) for row in rows]


def _payments(deal: Deal) -> list[tuple[Plan, int | None]]:
    plans = [Plan(p.due_on, p.amount_minor, p.every, p.times) for p in deal.payments.order_by("due_on", "pk")]
    return [(plan, whole_minor(plan)) for plan in plans]


def _talk(deal: Deal, line: FilterLine, stage: Stage) -> dict[str, Any]:
    """Contact, files and the guide of the stage, as of the day of the page."""
    guide = getattr(stage, "guide", None)
    answers = dict(deal.answers.values_list("question", "answer"))
    checklist = [(text, answers.get(text, "")) for text in guide.checklist.splitlines() if text] if guide else []
    last, spent = last_contacts([deal], line.ends_at)[deal.pk], contact_days([deal], line.ends_at)[deal.pk]
    return {
        "last_contact": last,
        "contact_days": spent,
        "contact_gap": contact_gap(spent, interval_of(deal)),
        "files": deal.files.filter(at__lt=line.ends_at).defer("content").order_by("-at"),
        "guide": guide,
        "checklist": checklist,
        "suggestions": _suggestions(guide.activities if guide else ""),
        "guide_files": stage.files.defer("content").order_by("name"),
        "activities_url": reverse("customers:add-activity"),
        "moment": now(),
        "today": today(),
    }


@dataclass(frozen=True)
class Suggestion:
    """An activity that the stage guide suggests, with the day it would be planned for."""

    kind: str
    on: date
    subject: str


def _suggestions(text: str) -> list[Suggestion]:
    """The suggested activities, counted from today."""
    suggestions = []
    for entry in text.splitlines():
        if match := PLANNED.fullmatch(entry.strip()):
            kind, after, subject = match[1].replace(" ", "_"), int(match[2]), match[3] or match[1]
            suggestions.append(Suggestion(kind, today() + timedelta(days=after), subject))
    return suggestions
