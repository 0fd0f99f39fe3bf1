"""Saved briefs: what each said then, and what has happened since."""

import json
from dataclasses import dataclass
from datetime import date
from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import NO_DAY
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE
from wise_tally.domain.briefs.models import KeptBrief
from wise_tally.domain.briefs.selectors import saved_briefs
from wise_tally.domain.formats import day, money
from wise_tally.web.filter_line import FilterLine, read_scope, scope_of
from wise_tally.web.findings.brief import brief_for
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility, visible

MOST = 100
OUTCOMES = {WON: "won", LOST: "lost"}


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The briefs that the viewer kept of the scope, the latest first."""
    line = read_scope(request)
    rows = list(saved_briefs(request.viewer, line.who_value)[:MOST])
    return render(request, "brief/saved_briefs.html", {"rows": rows})


@dataclass(frozen=True)
class Became:
    """A point of a saved brief, and its outcome in words; `href` leads to its deal or person, empty where it has none."""

    words: str
    whose: str
    amount_minor: int
    became: str
    href: str


@require_safe
def one(request: PageRequest, key: str) -> HttpResponse:
    """A saved brief as it was, each point with its outcome since."""
    brief = get_object_or_404(KeptBrief, key=key, by__key=request.viewer.key)
    parameters = {"who": brief.who, "period": brief.period}
    line = request.filter_line = scope_of(request.viewer, {name: value for name, value in parameters.items() if value})
    content = json.loads(brief.content)
    answer = {
        "saved": brief,
        "figures": content["figures"],
        "points": became_of(content["findings"], line, request, visible(request)),
        "then": f"{reverse('brief:page')}?{line.query(as_of=brief.as_of.isoformat(), period=brief.period)}",
    }
    return render(request, "brief/saved.html", answer)


def became_of(
    points: list[dict[str, Any]], line: FilterLine, request: PageRequest, may_see: Visibility
) -> list[Became]:
    """The outcome of each point by today: of a deal its state, of others whether it is still found and at how much."""
    now = {finding.key: finding for finding in brief_for(line, request.viewer, may_see).findings}
    became = []
    for point in points:
        words = ""
        if point["about"] == "deal":
            words = _of_deal(line, point["subject"])
        if not words:
            still = now.get(point["finding"])
            words = "no longer so" if still is None else f"still so, {money(still.money_minor)} at stake"
        pages = {"deal": "deals:deal", "person": "team:one-to-one", "customer": "customers:account"}
        name = pages.get(point["about"], "")
        href = reverse(name, args=[point["subject"]]) if name else ""
        became.append(Became(point["words"], point["whose"], point["amount_minor"], words, href))
    return became


def _of_deal(line: FilterLine, key: str) -> str:
    """Where a deal stands today, in words; empty for one that is no longer there."""
    index = line.book.index_by_key.get(key, NONE)
    rows = (line.snapshot.deal == index).nonzero()[0]
    if index == NONE or not len(rows):
        return ""
    row, snapshot = int(rows[0]), line.snapshot
    kind, closed, close = int(snapshot.kind[row]), int(snapshot.closed_on[row]), int(snapshot.expected_close[row])
    stage = line.book.reference.stages[int(snapshot.stage[row])].name
    if kind != OPEN:
        return f"{OUTCOMES[kind]} on {day(date.fromordinal(closed))}"
    return f"still open in {stage}" + (
        f", due {day(date.fromordinal(close))}" if close != NO_DAY else ", without a close date"
    )
