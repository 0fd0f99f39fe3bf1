"""Pages of conversion: passing, time in stage, and their workings."""

from dataclasses import dataclass
from functools import cache
from operator import itemgetter
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.conversion import BASES, Cohort, ConversionGroup, ConversionOptions, cohort, conversion_of
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.deal_list import overstaying
from wise_tally.core.drop_off import losses
from wise_tally.core.exits import WAYS, exits
from wise_tally.core.lines import owner_filtered
from wise_tally.core.time_in_stage import DaysToWin, days_to_win, deals_with_stays, stay_lines, time_in_stage, times_of
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.actions import StageEdit, rule_in_force, set_stages
from wise_tally.domain.process.models import Stage
from wise_tally.pages.conversion.comparison import Against, distinct, read_against
from wise_tally.pages.conversion.drawing import PassingRow, passing_rows, time_groups
from wise_tally.pages.conversion.query import BY, by_of, line_of, options_of, tabs, with_breakdown
from wise_tally.pages.conversion.workings import Row, conversion_panel, row_named
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.files.tables import exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import panel_response


def _query(line: FilterLine, request: PageRequest, keep: str = "", toggle: str = "", **changes: str) -> str:
    """The page's address with parts changed; empty parts are dropped but for the one to `keep`.

    The stage to `toggle` is left out, or put back where it is left out.
    """
    names = ("basis", "measure", "counting", "decided", "by", "per", "against")
    own = {name: request.GET.get(name, "") for name in names} | changes
    left = set(request.GET.getlist("leave_out")) ^ ({toggle} if toggle else set())
    given = [*line.given, *((name, value) for name, value in own.items() if value or name == keep)]
    return urlencode([*given, *(("leave_out", key) for key in sorted(left))])


def _stages_to_leave_out(line: FilterLine, request: PageRequest) -> list[tuple[str, str, bool]]:
    """The open stages of the process: name, the address that leaves it out or puts it back, whether it is left out."""
    left, stages = request.GET.getlist("leave_out"), line.book.reference.stages
    shown = (stages[index] for index in line.book.reference.open_stages(line.scope.process, with_retired=False))
    return [(stage.name, _query(line, request, toggle=stage.key), stage.key in left) for stage in shown]


def _switches(line: FilterLine, request: PageRequest) -> list[dict[str, Any]]:
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
def page(request: PageRequest) -> HttpResponse:
    """Passing: bars of falling length, the loss between them, rates with their bases named."""
    by = by_of(request)
    line = with_breakdown(line_of(request), by)
    options = options_of(line, request)
    found, whole, rows = passing(line, options)
    groups = () if by == "company" else broken_down(line, found, options, by)
    winning = days_to_win(line.book, line.snapshot, line.period, line.scope)[0]
    against, held = read_against(line, request)
    other = _other(line, request, against[held], options) if held else None
    leaks = [(row.loss.share, row) for row in rows if row.loss is not None and row.loss.share]
    answer = {
        "line": line,
        "whole": whole,
        "rows": rows,
        "other": other,
        "pairs": list(zip(rows, other.rows if other else [None] * len(rows), strict=True)),
        "against": [(name, words, _query(line, request, against=name)) for name, words in distinct(against, held)],
        "held": held,
        "alone": _query(line, request, against=""),
        "leak": max(leaks, key=itemgetter(0), default=None),
        "winning": winning,
        "exits": exits_shown(line, options),
        "ways": WAYS,
        "options": options,
        "switches": _switches(line, request),
        "stages": _stages_to_leave_out(line, request),
        "by": by,
        "by_links": [(name, words, _query(line, request, by=name)) for name, words in choices(BY)],
        "groups": [
            (own_scope(line, by, group.key), _query(line, request, row=group.key or "", keep="row"), group)
            for group in groups
        ],
        "tabs": tabs(line, "page"),
        "by_words": words_of(by),
        "several": by == PRODUCT_GROUP,
        "working": _query(line, request, by=""),
        "query": _query(line, request),
        "footer": _footer(line, request, whole.totals.created, whole.totals.without_history),
    }
    return render(request, "conversion/page.html", answer)


def broken_down(line: FilterLine, found: Cohort, options: ConversionOptions, by: str) -> tuple[ConversionGroup, ...]:
    """The rows of a breakdown that hold anything."""
    groups = conversion_of(line.book, line.snapshot, found, line.scope, options, by)
    return tuple(g for g in groups if g.totals.created or g.totals.closed_won or g.totals.closed_lost)


def passing(line: FilterLine, options: ConversionOptions) -> tuple[Cohort, ConversionGroup, list[PassingRow]]:
    """The cohort of a scope, its conversion and its rows."""
    found = cohort(line.book, line.snapshot, line.period, line.scope, options)
    whole = conversion_of(line.book, line.snapshot, found, line.scope, options)[0]
    lost = losses(line.book, line.snapshot, found, options)
    return found, whole, passing_rows(line, whole, lost, options.by_value)


@dataclass(frozen=True)
class ExitsShown:
    """A stage's ended stays, and by way their figure, number, amount and part."""

    key: str
    name: str
    stays: int
    minor: int
    ways: list[tuple[str, int, int, float | None]]


def exits_shown(line: FilterLine, options: ConversionOptions) -> list[ExitsShown]:
    """Where the stays of each shown stage went that ended in the period."""
    stages, shown = line.book.reference.stages, []
    for row in exits(line.book, line.snapshot, line.period, line.scope, options):
        ways = [
            (f"exits-{way}", row.stays[i], row.minor[i], row.share(i, options.by_value)) for i, way in enumerate(WAYS)
        ]
        stage = stages[row.stage]
        shown.append(ExitsShown(stage.key, stage.name, *row.ended, ways))
    return shown


@dataclass(frozen=True)
class Other:
    """The scope held against: in words, its totals and rows (bars on the scale of its own), the query of its workings."""

    words: str
    whole: ConversionGroup
    rows: list[PassingRow]
    working: str


def _other(line: FilterLine, request: PageRequest, against: Against, options: ConversionOptions) -> Other:
    there = against.line
    _, whole, shown = passing(there, options)
    given = {"process": line.process_value, **against.changes}
    own = [(name, request.GET[name]) for name in ("basis", "measure", "counting", "decided") if request.GET.get(name)]
    left = [("leave_out", key) for key in request.GET.getlist("leave_out")]
    query = "&".join(part for part in (line.query(**given), urlencode([*own, *left])) if part)
    return Other(against.words, whole, shown, query)


def own_scope(line: FilterLine, by: str, key: str | None) -> str:
    """The query that shows one row of a breakdown alone; empty where the filter line has no such part."""
    if key is None or by not in ("person", "team", "territory"):
        return ""
    return line.query(where=key) if by == "territory" else line.query(who=f"{by}:{key}")


def _footer(line: FilterLine, request: PageRequest, counted: int, lacking: int) -> Footer:
    query = _query(line, request)
    of_process = int((line.book.deals.process[line.snapshot.deal] == line.scope.process).sum())
    url = f"{reverse('deals:page')}?{line.query(process=line.process_value)}&status=all"
    return Footer(
        counted, max(0, of_process - counted), url, lacking=lacking, exports=exports("conversion:table", query)
    )


@require_safe
def time(request: PageRequest) -> HttpResponse:
    """Time in stage: medians with open stays as censored, typical days, overstaying."""
    by, per_deal = by_of(request), request.GET.get("per") == "deal"
    line = with_breakdown(line_of(request), by)
    every = stay_lines(line.book, line.snapshot, line.period, line.scope)
    groups = times_of(line.book, every, line.scope, by, per_deal)
    winning = days_to_win(line.book, line.snapshot, line.period, line.scope, by)

    @cache
    def opened(key: str | None) -> str:
        """The query of a row's working: of the whole where there is no breakdown."""
        return _query(line, request, row=key or "", keep="row") if by != "company" else _query(line, request)

    answer = {
        "line": line,
        "groups": time_groups(
            line, [(group, opened(group.key)) for group in groups if any(s.stays or s.running for s in group.stages)]
        ),
        "winning": [(row.name or "without one", opened(row.key), row) for row in winning if row.deals],
        "winning_months": winning_months(line),
        "per_deal": per_deal,
        "per_query": _query(line, request, per="" if per_deal else "deal"),
        "overstays": _overstays(request, line),
        "tabs": tabs(line, "time"),
        "may_set": request.viewer.may(May.SET_RULES) and not line.is_past,
        "by_words": words_of(by),
        "by": by,
        "by_links": [(name, words, _query(line, request, by=name)) for name, words in choices(BY)],
        "query": _query(line, request),
        "footer": Footer(deals_with_stays(every), exports=exports("conversion:time-table", _query(line, request))),
    }
    return render(request, "conversion/time.html", answer)


MOST_OVERSTAYS = 12
WINNING_MONTHS = 12


def winning_months(line: FilterLine) -> list[tuple[str, str, DaysToWin]]:
    """Days to win of the deals won in each of the last months, the latest first, with the query of their workings."""
    fiscal = line.book.reference.fiscal
    present = fiscal.containing(line.as_of, "month")
    months = [fiscal.shifted(present, -step) for step in range(WINNING_MONTHS)]
    return [
        (
            period_words(month),
            line.query(period=month.text, process=line.process_value),
            days_to_win(line.book, line.snapshot, month, line.scope)[0],
        )
        for month in months
    ]


def _overstays(request: PageRequest, line: FilterLine) -> list[DealRow]:
    """Open deals of the scope beyond the typical days of their stage, the most money first."""
    rows = np.flatnonzero(owner_filtered(line.book, line.snapshot, line.scope))
    rows = rows[overstaying(line.book, line.snapshot, rows)]
    order = rows[np.argsort(-line.snapshot.amount_minor[rows], kind="stable")][:MOST_OVERSTAYS]
    return list(deal_rows(line, order.tolist(), request.viewer).values())


def row_of(line: FilterLine, request: PageRequest) -> tuple[FilterLine, Row]:
    """The row whose figure is opened, and the line whose book knows its breakdown; the whole where none is named."""
    if "row" not in request.GET:
        return line, Row(per_deal=request.GET.get("per") == "deal")
    by = by_of(request)
    line = with_breakdown(line, by)
    return line, row_named(line, by, request.GET["row"], request.GET.get("per") == "deal")


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """The working of a rate, a count or a duration. Days to win may count every process, as dashboards do."""
    of_all = figure == "days_to_win" and "every" in request.GET
    line = read_scope(request, "year") if of_all else line_of(request)
    line, row = row_of(line, request)
    found = conversion_panel(line, options_of(line, request), figure, request.GET.get("stage", ""), row)
    back = reverse("conversion:page") + "?" + _query(line, request)
    return panel_response(request, line, found, back)


@require_POST
@changing_needs(May.SET_RULES)
def set_typical(request: PageRequest) -> HttpResponse:
    """Set the typical days of the ticked stages to the median seen in the scope, from this moment on."""
    line = line_of(request)
    stages = line.book.reference.stages
    rows = {
        stages[row.stage].key: row for row in time_in_stage(line.book, line.snapshot, line.period, line.scope)[0].stages
    }
    edits = []
    for key in request.POST.getlist("stage"):
        median = rows[key].km_median if key in rows else None
        if median is None:
            raise Refused(f"“{key[:60]}” has no median in this scope; accepted: stages with one.", 422)
        stage = Stage.objects.get(key=key)
        held = rule_in_force(stage, now())
        columns = (stage.name, held.probability_bp, held.category, round(median * 100))
        edits.append(StageEdit(stage, *columns, stage.own_probability, stage.required))
    if not edits:
        raise Refused("No stage is ticked; accepted: one or more of the list.", 422)
    changed = set_stages(request.viewer, edits, today(), now())
    messages.success(
        request, f"Typical days of {changed} stages set to what was seen. Earlier days keep what held then."
    )
    return redirect(f"{reverse('conversion:time')}?{line.query()}")
