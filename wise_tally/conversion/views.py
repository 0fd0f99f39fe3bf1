"""Pages of conversion: passing, time in stage, and their workings."""

from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.conversion.drawing import passing_rows, time_rows
from wise_tally.conversion.workings import conversion_panel
from wise_tally.core.conversion import BASES, ConversionGroup, ConversionOptions, conversion
from wise_tally.core.time_in_stage import days_to_win, deals_with_stays, time_in_stage
from wise_tally.core.trees import NONE
from wise_tally.scope.line import ScopeLine, only_process, read_scope
from wise_tally.scope.panel import panel_response
from wise_tally.scope.pins import counted_list
from wise_tally.scope.strip import CountStrip
from wise_tally.scope.tables import Sheet, exports, sheet_response
from wise_tally.ui.refusals import Refused

# Figures whose working counts just the deals that a list can show.
LISTED = ("reached", "value")
BY = {
    "company": "no breakdown",
    "person": "person",
    "team": "team",
    "territory": "territory",
    "source": "source",
    "deal_type": "deal type",
}


def line_of(request: HttpRequest) -> ScopeLine:
    """The scope line with one process; conversion looks at a year unless a period is chosen."""
    line = only_process(read_scope(request, "year"))
    if line.scope.process == NONE:
        raise Refused("There is no process yet; read a package or set one up first.")
    request.scope_line = line  # type: ignore[attr-defined]
    return line


def options_of(line: ScopeLine, request: HttpRequest) -> ConversionOptions:
    """How the cohort is taken and counted, as the address says; raises Refused."""
    basis = _word(request, "basis", "created", BASES)
    measure = _word(request, "measure", "number", ("number", "value"))
    counting = _word(request, "counting", "reached", ("reached", "strict"))
    decided = _word(request, "decided", "all", ("all", "only"))
    stages = {line.book.ground.stages[i].key: i for i in line.book.ground.open_stages(line.scope.process)}
    left = request.GET.getlist("leave_out")
    if unknown := [key for key in left if key not in stages]:
        raise Refused(f"“{unknown[0][:60]}” is not an open stage here; accepted: {', '.join(stages)}.", 404)
    return ConversionOptions(
        basis=basis,
        strict=counting == "strict",
        decided_only=decided == "only",
        by_value=measure == "value",
        leave_out=frozenset(stages[key] for key in left),
    )


def _word(request: HttpRequest, name: str, default: str, accepted: tuple[str, ...]) -> str:
    value = request.GET.get(name, default)
    if value not in accepted:
        raise Refused(f"“{value[:40]}” is not accepted as {name}; accepted: {', '.join(accepted)}.")
    return value


def _query(line: ScopeLine, request: HttpRequest, **changes: str) -> str:
    own = {name: request.GET.get(name, "") for name in ("basis", "measure", "counting", "decided", "by")} | changes
    left = [("leave_out", key) for key in request.GET.getlist("leave_out")]
    return urlencode([*line.given, *((name, value) for name, value in own.items() if value), *left])


def _switches(line: ScopeLine, request: HttpRequest) -> list[dict[str, Any]]:
    """The choices above the bars, each a link."""
    shown = []
    for name, words in (
        ("measure", ("number", "value")),
        ("basis", BASES),
        ("counting", ("reached", "strict")),
        ("decided", ("all", "only")),
    ):
        current = request.GET.get(name, words[0])
        links = [(word, _query(line, request, **{name: word}), word == current) for word in words]
        shown.append({"name": name, "links": links})
    return shown


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """Passing: bars of falling length, the loss between them, rates with their bases named."""
    line = line_of(request)
    options = options_of(line, request)
    by = _word(request, "by", "company", tuple(BY))
    whole = conversion(line.book, line.standing, line.period, line.scope, options)[0]
    groups: tuple[ConversionGroup, ...] = ()
    if by != "company":
        groups = conversion(line.book, line.standing, line.period, line.scope, options, by)
    winning = days_to_win(line.book, line.standing, line.period, line.scope)[0]
    rows = passing_rows(line, whole, options.by_value)
    leaks = [row for row in rows if row.loss is not None and row.step is not None]
    answer = {
        "line": line,
        "whole": whole,
        "rows": rows,
        "leak": min(leaks, key=lambda row: row.step or 0.0, default=None),
        "winning": winning,
        "options": options,
        "switches": _switches(line, request),
        "by": by,
        "by_links": [(name, words, _query(line, request, by=name)) for name, words in BY.items()],
        "groups": [
            (own_scope(line, by, group.key), group)
            for group in groups
            if group.totals.created or group.totals.closed_won or group.totals.closed_lost
        ],
        "working": _query(line, request),
        "strip": _strip(line, request, whole.totals.created, whole.totals.without_history),
    }
    return render(request, "conversion/page.html", answer)


def own_scope(line: ScopeLine, by: str, key: str | None) -> str:
    """The query that shows one row of a breakdown alone; empty where the scope line has no such part."""
    if key is None or by not in ("person", "team", "territory"):
        return ""
    return line.query(where=key) if by == "territory" else line.query(who=f"{by}:{key}")


def _strip(line: ScopeLine, request: HttpRequest, counted: int, lacking: int) -> CountStrip:
    query = _query(line, request)
    of_process = int((line.book.deals.process[line.standing.deal] == line.scope.process).sum())
    url = f"{reverse('deals:page')}?{line.query(process=line.process_value)}&status=all"
    return CountStrip(
        counted, max(0, of_process - counted), url, lacking=lacking, exports=exports("conversion:table", query)
    )


@require_safe
def time(request: HttpRequest) -> HttpResponse:
    """Time in stage: medians with open stays as censored, typical days, overstaying."""
    line = line_of(request)
    by = _word(request, "by", "company", tuple(BY))
    groups = time_in_stage(line.book, line.standing, line.period, line.scope, by)
    winning = days_to_win(line.book, line.standing, line.period, line.scope, by)
    answer = {
        "line": line,
        "groups": [
            time_rows(line, group, own_scope(line, by, group.key))
            for group in groups
            if any(s.stays or s.running for s in group.stages)
        ],
        "winning": [row for row in winning if row.deals],
        "by": by,
        "by_links": [(name, words, _query(line, request, by=name)) for name, words in BY.items()],
        "working": _query(line, request),
        "strip": CountStrip(deals_with_stays(line.book, line.standing, line.period, line.scope)),
    }
    return render(request, "conversion/time.html", answer)


@require_safe
def working(request: HttpRequest, figure: str) -> HttpResponse:
    """The working of a rate, a count or a duration. Days to win may count every process, as dashboards do."""
    of_all = figure == "days_to_win" and "every" in request.GET
    line = read_scope(request, "year") if of_all else line_of(request)
    found = conversion_panel(line, options_of(line, request), figure, request.GET.get("stage", ""))
    back = reverse("conversion:page") + "?" + _query(line, request)
    return panel_response(request, line, found, back, counted_list(request) if figure in LISTED else "")


@require_safe
def table(request: HttpRequest, kind: str) -> HttpResponse:
    """The rows of the passing page as a file."""
    line = line_of(request)
    options = options_of(line, request)
    whole = conversion(line.book, line.standing, line.period, line.scope, options)[0]
    stages = line.book.ground.stages
    header = ("stage", "reached", "value", "step", "from_start")
    rows = [(stages[s.stage].name, s.reached, s.value, s.step, s.from_start) for s in whole.stages]
    return sheet_response(Sheet("conversion", header, frozenset({"value"}), rows), kind)
