"""The one-to-one: everything that a manager and a rep talk about once a week, on one page."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

import numpy as np
from django.contrib import messages
from django.db.models import Q
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.activity import OWN_DOING, activity_attainment
from wise_tally.core.answers.answer import Answer
from wise_tally.core.answers.results import of_one_to_one
from wise_tally.core.attainment import AttainmentRow, DaysOf, attainment
from wise_tally.core.calendar import Period
from wise_tally.core.findings.question import OpenDeals, Question
from wise_tally.core.money import Ints
from wise_tally.core.outlook.rows import outlook_rows
from wise_tally.core.people_table import PeopleCell, people_table
from wise_tally.core.trees import NONE
from wise_tally.core.what_changed import changes
from wise_tally.domain.formats import day, plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.clock import now, zone
from wise_tally.domain.org.meeting_actions import (
    agree,
    keep_notes,
    last_meeting,
    last_meetings,
    open_actions,
    open_actions_of,
    tick_action,
)
from wise_tally.domain.org.models import AgreedAction, Meeting, Person
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.domain.process.models import Category
from wise_tally.domain.targets.models import Call
from wise_tally.pages.team.deals_by_rep import months_of, stages_of
from wise_tally.web.activities_done import done_in
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.deal_rows import DealRow, deal_rows, names_of, stage_choices
from wise_tally.web.expectation import trust_of
from wise_tally.web.filter_line import PARTS, FilterLine, read_scope, scope_of
from wise_tally.web.findings.brief import Brief, acting, brief_for, keep_todays
from wise_tally.web.footer import Footer
from wise_tally.web.forms.fields import DateField, LedgerForm, forms
from wise_tally.web.nodes import whole_attainment, working_query
from wise_tally.web.paging import paged
from wise_tally.web.request.choices import day_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

FEW, MOST_DEALS = 6, 8
USUAL_DAYS = 7
# The header of notes that save themselves.
ALONE = "X-Saves-Itself"


@require_safe
def people(request: PageRequest) -> HttpResponse:
    """Whom one may meet: attainment, likely outcome, last meeting, agreed actions still to do."""
    line = read_scope(request)
    to_meet = _to_meet(line)
    likely = _likely_outcomes(line)
    shown, turned = paged(request, to_meet, line.query())
    answer = {
        **turned,
        "rows": _people_rows(request.viewer, line, shown, likely),
        "likely": likely,
        "footer": Footer(len(to_meet), what="person"),
    }
    return render(request, "team/one_to_ones.html", answer)


def _to_meet(line: FilterLine) -> list[Person]:
    """Who of the scope sells and is there on the day, by name."""
    keys = {choice.value[7:] for choice in line.choices_who if choice.value.startswith("person:")}
    if not keys and line.scope.person != NONE:
        keys = {line.book.reference.people[line.scope.person].key}
    active = Q(active_to=None) | Q(active_to__gte=line.as_of)
    listed = Person.objects.filter(active).exclude(role__in=("admin", "viewer")).order_by("name")
    return [person for person in listed if person.key in keys]


def _people_rows(
    viewer: Viewer, line: FilterLine, shown: Sequence[Person], likely: dict[str, int]
) -> list[tuple[Any, ...]]:
    """Of each person the record, the outlook, the query of workings, the last meeting, open actions and the address."""
    people, scope = line.book.reference.people, replace(line.scope, person=NONE)
    records = {
        people[row.forecast.node].key: row
        for row in attainment(line.book, line.snapshot, line.period, scope, "person")
        if row.forecast.node != NONE
    }
    met, agreed = last_meetings(viewer, line.as_of + timedelta(days=1)), open_actions_of(line.as_of)
    query = line.query(who=None)
    return [
        (
            person,
            records.get(person.key),
            likely.get(person.key),
            f"{query}&node=person:{person.key}",
            met.get(person.key),
            agreed.get(person.key, 0),
            f"{reverse('team:one-to-one', args=[person.key])}?{query}",
        )
        for person in shown
    ]


def _likely_outcomes(line: FilterLine) -> dict[str, int]:
    """The outlook of each person of the scope in minor units; empty where it says nothing about this period."""
    if not trust_of(line).shown or trust_of(line).over:
        return {}
    rows = outlook_rows(line.book, line.snapshot, line.period, replace(line.scope, person=NONE), "person")
    return {line.book.reference.people[node].key: row.mean for node, row in rows.items() if node != NONE}


def _line(request: PageRequest, key: str) -> FilterLine:
    """The scope of one person; raises PermissionDenied for somebody who is not open to the viewer."""
    parameters = {name: request.GET[name] for name in PARTS if request.GET.get(name)} | {"who": f"person:{key}"}
    line = scope_of(request.viewer, parameters)
    request.filter_line = line
    return line


def _since(request: PageRequest, line: FilterLine, key: str) -> tuple[date, bool]:
    """The day to compare with: the one asked for, the last meeting, a week ago; and whether it is a meeting."""
    text = request.GET.get("since", "")
    if text:
        since = day_of(text)
        if since > line.as_of:
            raise Refused(f"{day(since)} is after {day(line.as_of)}. Choose an earlier date.")
        return since, False
    met = last_meeting(request.viewer, key, line.as_of)
    return met or line.as_of - timedelta(days=USUAL_DAYS), met is not None


@require_safe
def page(request: PageRequest, key: str) -> HttpResponse:
    """One person's figures, what changed, what wants a word, what was agreed."""
    line = _line(request, key)
    since, is_meeting = _since(request, line, key)
    brief = brief_for(line, request.viewer, visible(request), since)
    answer = {
        "key": key,
        "name": line.who_label,
        "is_meeting": is_meeting,
        **_figures(line, key, brief.question.open),
        **_changed(line, key, since),
        **_pipeline(request, line, brief),
        "activities": _activities(line, since),
        "calls": _calls(line, key),
        "neighbours": _neighbours(line, key),
        "may_meet": request.viewer.may(May.SET_RULES) and not line.is_past,
        **_agreed(request, line, key),
    }
    return render(request, "team/one_to_one.html", answer)


def _figures(line: FilterLine, key: str, deals: OpenDeals) -> dict[str, Any]:
    """How the period stands, in a sentence and in figures."""
    whole, working = whole_attainment(line), working_query(line, f"person:{key}")
    return {
        "whole": whole,
        "working": working,
        "needed": DaysOf.at(line.period, line.as_of).needed_per_week(whole.forecast.gap),
        "answer_sentence": answer_sentence(
            _sentence(line, whole, deals), workings("forecast:working", working, "won", "gap")
        ),
        "footer": Footer(len(deals.rows) + whole.forecast.deals_won),
    }


def _pipeline(request: PageRequest, line: FilterLine, brief: Brief) -> dict[str, Any]:
    """The open deals by stage and by month, the largest of them, and what was found about them."""
    deals = brief.question.open
    return {
        "pipeline": [
            (along, _cells(line, of(line, "open"))) for along, of in (("month", months_of), ("stage", stages_of))
        ],
        "by_rep": f"{reverse('team:open')}?{line.query()}",
        **acting(request, line),
        "rows": brief.chosen,
        "more": len(brief.findings) - len(brief.chosen),
        "deals": _largest(line, brief.question, request),
        "open": (len(deals.rows), int(deals.amount_minor.sum())),
        "may_edit": not line.is_past and request.viewer.may(May.CHANGE_OWN_DEALS),
        "stage_choices": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
    }


def _sentence(line: FilterLine, whole: AttainmentRow, deals: OpenDeals) -> Answer:
    """Where the person stands, in one sentence."""
    rows, amount = deals.rows, deals.amount_minor
    close = line.snapshot.expected_close[rows]
    due = (close >= line.period.starts_on.toordinal()) & (close <= line.period.ends_on.toordinal())
    largest = None
    if due.any():
        biggest = int(np.flatnonzero(due)[amount[due].argmax()])
        deal = int(line.snapshot.deal[rows[biggest]])
        largest = names_of(line.book, [deal]).get(line.book.deals.key[deal], ""), int(amount[biggest])
    record = whole.forecast
    return of_one_to_one(line.who_label, span_of(line), record.won, record.quota, int(amount[due].sum()), largest)


def _neighbours(line: FilterLine, key: str) -> tuple[tuple[str, str] | None, tuple[str, str] | None]:
    """The person before and the one after, by name, each with the address of the one-to-one."""
    people = [choice for choice in line.choices_who if choice.value.startswith("person:")]
    index = next((i for i, choice in enumerate(people) if choice.value == f"person:{key}"), None)
    if index is None:
        return None, None
    query = line.query(who=None)

    def link(to: int) -> tuple[str, str] | None:
        if not 0 <= to < len(people):
            return None
        return people[to].label, f"{reverse('team:one-to-one', args=[people[to].value[7:]])}?{query}"

    return link(index - 1), link(index + 1)


def _changed(line: FilterLine, key: str, since: date) -> dict[str, Any]:
    """How the weighted figure moved since a day, and the deals that moved it the most: identifier, name, both parts."""
    moves = changes(line.book, line.book.as_of(since), line.snapshot, line.period, line.scope, "weighted")
    deals = [one.deal for one in moves.moved[:FEW]]
    keys, names = [line.book.deals.key[deal] for deal in deals], names_of(line.book, deals)
    return {
        "since": since,
        "working_then": f"{line.query(period=line.period.text, as_of=since.isoformat())}&node=person:{key}",
        "changed": f"{reverse('forecast:changed')}?{line.query()}&from={since.isoformat()}",
        "moved": moves,
        "moved_rows": [(key, names.get(key, key), one) for key, one in zip(keys, moves.moved, strict=False)],
    }


def _cells(line: FilterLine, columns: tuple[Ints, tuple[str, ...]]) -> list[tuple[str, PeopleCell, int]]:
    """What the person has open in each column that holds something, with the column's place."""
    column, heads = columns
    whole, _ = people_table(line.book, line.snapshot, line.scope, column, len(heads))
    return [
        (head, cell, index) for index, (head, cell) in enumerate(zip(heads, whole.cells, strict=True)) if cell.deals
    ]


def _largest(line: FilterLine, question: Question, request: PageRequest) -> list[tuple[DealRow, str]]:
    """The largest open deals, each with what is remarkable about it."""
    places, deals = question.open.rows[:MOST_DEALS].tolist(), question.open.deal[:MOST_DEALS]
    shown = deal_rows(line, places, request.viewer)
    late = question.around.missed[deals].tolist()
    return [(shown[row], _remark(shown[row], n)) for row, n in zip(places, late, strict=True) if row in shown]


def _remark(row: DealRow, missed: int) -> str:
    remarks = [f"{row.days_over:.0f} days over typical"] if row.overstays else []
    remarks += [f"close moved {row.slips}×"] if row.slips else []
    remarks += [plural(missed, "missed contact")] if missed else []
    return ", ".join(remarks)


def _activities(line: FilterLine, since: date) -> list[tuple[str, int, AttainmentRow | None, str, str]]:
    """Done since the day compared with, by kind; the month's targets; queries of the workings of both."""
    first = min(since + timedelta(days=1), line.as_of)
    span = Period(first, line.as_of, "span", f"{first}/{line.as_of}")
    month = line.book.reference.fiscal.containing(line.as_of, "month")
    done, in_month = done_in(line, span), done_in(line, month)
    lines = []
    for kind in OWN_DOING:
        of_kind = done.of_kind(kind)
        number = int(of_kind.number[of_kind.person == line.scope.person].sum())
        rows = activity_attainment(line.book, line.snapshot, month, line.scope, "person", in_month.of_kind(kind))
        node = (
            f"node=person:{line.book.reference.people[line.scope.person].key}&by=person&measure=activities&kind={kind}"
        )
        queries = [f"{line.query(period=one.text)}&{node}" for one in (span, month)]
        row = next((row for row in rows if row.forecast.node == line.scope.person), None)
        lines.append((kind, number, row, queries[0], queries[1]))
    return lines


def _calls(line: FilterLine, key: str) -> list[Call]:
    """What was called for the period, the latest first."""
    span = {"starts_on": line.period.starts_on, "ends_on": line.period.ends_on}
    calls = Call.objects.filter(subject="person", subject_key=key, made_at__lt=line.ends_at, **span)
    calls = calls.select_related("made_by")
    return list(calls.order_by("-made_at")[:FEW])


def _agreed(request: PageRequest, line: FilterLine, key: str) -> dict[str, Any]:
    """Actions carried over, those done of late, notes of this meeting and of the last: for those who meet, and the person."""
    day, viewer = line.as_of, request.viewer
    if not viewer.may(May.SET_RULES) and viewer.key != key:
        return {"shows_talk": False}
    mine = Meeting.objects.filter(by__key=viewer.key, person_key=key, held_on=day).first()
    before = Meeting.objects.filter(person_key=key, held_on__lt=day).exclude(notes="").select_related("by")
    done = AgreedAction.objects.filter(person_key=key, done_on__gte=day - timedelta(days=28), done_on__lte=day)
    return {
        "shows_talk": True,
        "actions": open_actions(key, day),
        "done_actions": done.order_by("-done_on")[:FEW],
        "today_notes": mine.notes if mine else "",
        "met_today": mine is not None,
        "past_notes": before.order_by("-held_on")[:3],
        "today": day,
    }


class MeetingForm(LedgerForm):
    """Notes, and what was agreed by when; either may be empty."""

    notes = forms.CharField(required=False, strip=False)
    text = forms.CharField(required=False, max_length=10_000)
    due_on = DateField()

    def clean_due_on(self) -> date | None:
        """A day alone is nothing agreed."""
        if self.cleaned_data["due_on"] and not self.cleaned_data.get("text") and "text" not in self.errors:
            raise forms.ValidationError("Enter the agreed action.")
        day: date | None = self.cleaned_data["due_on"]
        return day


@require_POST
@changing_needs(May.SET_RULES)
def notes(request: PageRequest, key: str) -> HttpResponse:
    """Keep today's notes, or what was agreed, or both; the meeting is kept as held today."""
    line = _line(request, key)
    whose = (key, line.today)
    if line.is_past:
        raise Refused("Meetings can only be recorded as of today. Switch to today first.", 422)
    if ALONE in request.headers:
        return _saved_alone(request, whose)
    try:
        _keep(request, line, whose)
    except ChangedMeanwhile as changed:
        there = str(changed.now["notes"])
        raise Refused(
            f"These notes were changed in another window: “{there[:400]}”. Add yours to them and save again.", 409
        ) from None
    messages.success(request, "Saved. The next one-to-one compares with today.")
    return redirect(f"{reverse('team:one-to-one', args=[key])}?{line.query(who=None)}")


def _keep(request: PageRequest, line: FilterLine, whose: tuple[str, date]) -> None:
    typed = MeetingForm(request.POST).values()
    keep_notes(request.viewer, whose, typed["notes"], request.POST.get("expected", ""), now())
    keep_todays(line, request.viewer, visible(request), "meeting", now())
    if typed["text"]:
        agree(request.viewer, whose, typed["text"], typed["due_on"], now())


def _saved_alone(request: PageRequest, whose: tuple[str, date]) -> JsonResponse:
    """Notes that save themselves while they are written: what is kept now, or why not, in words."""
    text = request.POST.get("notes", "")
    try:
        meeting = keep_notes(request.viewer, whose, text, request.POST.get("expected", ""), now())
        keep_todays(request.filter_line, request.viewer, visible(request), "meeting", now())
    except ChangedMeanwhile as changed:
        there = str(changed.now["notes"])[:400]
        return JsonResponse(
            {"words": f"Not saved: changed in another window to “{there}”. Load the page again."}, status=409
        )
    return JsonResponse({"expected": meeting.notes, "words": f"saved {now().astimezone(zone()):%H:%M}"})


@require_POST
def tick(request: PageRequest, key: str, action: str) -> HttpResponse:
    """Mark an agreed action as done, or open it again."""
    line = _line(request, key)
    agreed = get_object_or_404(AgreedAction, key=action, person_key=key)
    tick_action(request.viewer, agreed, request.POST.get("done") == "yes", line.today, now())
    return redirect(f"{reverse('team:one-to-one', args=[key])}?{line.query(who=None)}")
