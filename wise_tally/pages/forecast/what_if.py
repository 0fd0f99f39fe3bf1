"""What if: deals won, lost, moved or resized and other probabilities, tried on a scratch copy, compared, applied."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from django.contrib import messages
from django.db.models import Q
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from wise_tally.core.forecast import forecast
from wise_tally.core.lines import deals_in
from wise_tally.core.outlook.expected import CHANCE, OUTLOOK
from wise_tally.core.reference_data import OPEN
from wise_tally.core.what_if import supposed
from wise_tally.domain.deals.actions import NO_CLOSING
from wise_tally.domain.deals.bulk import BulkRefused, Reasons
from wise_tally.domain.deals.what_if_actions import apply_what_if
from wise_tally.domain.formats import percent, plural, whole
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.process.models import LostReason, StageKind
from wise_tally.pages.forecast.scratch import Scratch, read_typed
from wise_tally.web import deal_columns
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.expectation import expected_of, leading_way, trust_of
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.forms.deal import ClosingForm, read_closing
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest

MOST_LISTED = 40


@dataclass(frozen=True)
class Compared:
    """A figure as it is and as supposed: minor units, or rates where `is_rate`."""

    words: str
    figure: str
    is_now: float | int | None
    would_be: float | int | None
    is_rate: bool = False

    @property
    def change(self) -> float | int | None:
        """Supposed less as it is."""
        return None if self.is_now is None or self.would_be is None else self.would_be - self.is_now

    @property
    def tone(self) -> str:
        """Whether the change is welcome: a gap should fall, everything else rise."""
        return "up" if ((self.change or 0) > 0) != (self.figure == "gap") else "down"

    @property
    def texts(self) -> list[str]:
        """As it is, as supposed, and the change: of rates in percentage points."""
        values: Any = (self.is_now, self.would_be, self.change)
        if not self.is_rate:
            return [whole(value) for value in values]
        now, then, change = (percent(value, 0) for value in values)
        return [now, then, change.replace("%", "pts")]


@dataclass(frozen=True)
class TriedDeal:
    """An open deal with what is supposed of it."""

    row: DealRow
    values: dict[str, Any]


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """The scratch copy beside the book, trying, discarding and applying."""
    line, scratch = read_scope(request), Scratch.of(request)
    find = request.GET.get("find", "").strip()[:200]
    rows = deal_rows(line, _listed(line, scratch, find), request.viewer)
    wrong: list[str] = []
    faults: list[tuple[Any, str]] = []
    if request.method == "POST":
        what = request.POST.get("what", "try")
        if what == "discard":
            Scratch({}, {}).keep(request)
        elif what == "apply":
            faults, wrong = _apply(request, line, scratch)
        elif not (wrong := read_typed(request, line, scratch, {row.key: row.revision for row in rows.values()})):
            scratch.keep(request)
        if not wrong and not faults:
            return redirect(_address(line, find))
    answer = _answer(request, line, scratch, rows, (find, wrong, faults))
    return render(request, "forecast/what_if.html", answer, status=422 if wrong or faults else 200)


def _address(line: FilterLine, find: str) -> str:
    return f"{reverse('forecast:what-if')}?{line.query(find=find or None)}"


def _listed(line: FilterLine, scratch: Scratch, find: str) -> list[int]:
    """Open deals to try: those already changed, then those found by name or due in the period, the largest first."""
    snapshot = line.snapshot
    rows = deals_in(line.book, snapshot, line.scope)
    rows = rows[snapshot.kind[rows] == OPEN]
    index_of = line.book.index_by_key
    tried = np.isin(snapshot.deal[rows], [index_of[key] for key in scratch.deals if key in index_of])
    if find:
        wanted = deal_columns.deals_where(line, Q(name__icontains=find))[snapshot.deal[rows]]
    else:
        close = snapshot.expected_close[rows]
        wanted = (close >= line.period.starts_on.toordinal()) & (close <= line.period.ends_on.toordinal())
    rest = rows[wanted & ~tried]
    rest = rest[np.argsort(-snapshot.amount_minor[rest], kind="stable")][:MOST_LISTED]
    return [*rows[tried].tolist(), *rest.tolist()]


def _answer(
    request: PageRequest,
    line: FilterLine,
    scratch: Scratch,
    rows: dict[int, DealRow],
    result: tuple[str, list[str], list[tuple[Any, str]]],
) -> dict[str, Any]:
    find, wrong, faults = result
    viewer = request.viewer
    other = replace(line, snapshot=supposed(line.book, line.snapshot, scratch.for_core(line)))
    rules = line.book.reference.rules_on(line.as_of)
    typed = request.POST if wrong else {}
    return {
        "compared": _compared(line, other),
        "teams": _teams(line, other),
        "deals": [TriedDeal(row, scratch.deals.get(row.key, {}) | _again(typed, row.key)) for row in rows.values()],
        "stages": [
            (stage, line.book.reference.processes[stage.process][1], rule.probability_bp, scratch.stages.get(stage.key))
            for stage, rule in zip(line.book.reference.stages, rules, strict=True)
            if stage.kind == OPEN and not stage.retired
        ],
        "scratch": scratch,
        "find": find,
        "wrong": wrong,
        "faults": faults,
        "may_apply": not line.is_past and viewer.may(May.CHANGE_OWN_DEALS),
        "closing": _closing(request, scratch),
        "lost_reasons": LostReason.objects.offered().order_by("name"),
        "today": line.today,
        "may_set_stages": viewer.may(May.SET_RULES),
        "node": scope_node(line)[2],
        "footer": Footer(len(rows)),
    }


def _again(typed: Any, key: str) -> dict[str, str]:
    """What was typed for a deal, to be shown again beside what was wrong."""
    texts = {f"typed_{name}": typed.get(f"{name}:{key}") for name in ("amount", "close", "probability")}
    return {name: text for name, text in texts.items() if text is not None}


def _compared(line: FilterLine, other: FilterLine) -> list[Compared]:
    """The answer of the period, as it is and as supposed; range and chance by what leads."""
    by, node, _ = scope_node(line)
    trust = trust_of(line)
    way = leading_way(trust)
    rows, expected = [], []
    for one in (line, other):
        row = next(r for r in forecast(one.book, one.snapshot, one.period, one.scope, by) if r.node == node)
        rows.append(row)
        expected.append(expected_of(one, way, row.quota))
    (now_row, then_row), (now, then) = rows, expected
    names = [("won", "won"), ("won + commit", "commit_forecast"), ("weighted", "weighted"), ("gap to quota", "gap")]
    compared = [Compared(words, name, getattr(now_row, name), getattr(then_row, name)) for words, name in names]
    if way == OUTLOOK:
        compared.append(Compared("outlook", "outlook", now.mean_minor, then.mean_minor))
    for q, end in ((10, "low end"), (50, "middle"), (90, "high end")):
        ends = (now.outcome.quantile(q / 100), then.outcome.quantile(q / 100))
        compared.append(Compared(f"{end} (P{q})", CHANCE[way], *ends))
    chances = (now.outcome.chance_of(now_row.quota), then.outcome.chance_of(then_row.quota))
    return [*compared, Compared("chance of quota", CHANCE[way], *chances, is_rate=True)]


def _teams(line: FilterLine, other: FilterLine) -> list[tuple[str, int, int]]:
    """People whose weighted figure would be another: name, as it is, as supposed."""
    sides = [
        {row.node: row for row in forecast(one.book, one.snapshot, one.period, one.scope, "person")}
        for one in (line, other)
    ]
    changed = [(row, sides[1][node]) for node, row in sides[0].items() if node in sides[1]]
    return [(a.name or "", a.weighted, b.weighted) for a, b in changed if a.weighted != b.weighted]


def _closing(request: PageRequest, scratch: Scratch) -> ClosingForm | None:
    """What closing needs where deals are supposed to be won or lost; it is typed beside the button that applies."""
    ends = {values.get("outcome") for values in scratch.deals.values()}
    kind = next((kind for kind in (StageKind.LOST, StageKind.WON) if kind in ends), None)
    return read_closing(request.POST, kind, kind) if kind else None


def _apply(request: PageRequest, line: FilterLine, scratch: Scratch) -> tuple[list[tuple[Any, str]], list[str]]:
    """Make real what is supposed; returns the deals that cannot be changed so, or what is wrong."""
    reason = request.POST.get("reason", "").strip()[:1_000]
    if line.is_past:
        return [], ["Changes are made as of today; look at today to apply."]
    closing = _closing(request, scratch)
    if closing and closing.is_asked:
        return [], list(closing.faults.values()) or ["Say when and why the deals are closed, then apply."]
    reasons = Reasons(reason or "applied from a what-if scenario", closing.closing if closing else NO_CLOSING)
    viewer = request.viewer
    try:
        changes = apply_what_if(viewer, line.book.reference, scratch.wishes(), scratch.stages, reasons, now())
    except BulkRefused as refused:
        return list(refused.faults), []
    request.session["last_bulk"] = [(c.deal.key, c.after.pk) for c in changes]
    Scratch({}, {}).keep(request)
    moved = plural(len(changes), "deal")
    stages = f" and the probabilities of {plural(len(scratch.stages), 'stage')}" if scratch.stages else ""
    messages.success(request, f"{moved}{stages} changed. You can undo this in the deal list.")
    return [], []
