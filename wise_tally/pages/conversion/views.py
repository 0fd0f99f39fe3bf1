"""Pages of conversion: passing, time in stage, and their workings."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from operator import itemgetter
from typing import Any
from urllib.parse import quote

import numpy as np
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.answers.conversion import StageTime as Typical
from wise_tally.core.answers.conversion import Step, of_conversion, of_time_in_stage
from wise_tally.core.breakdowns import grouping
from wise_tally.core.conversion import Cohort, ConversionGroup, ConversionOptions, cohort, conversion_of
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.deal_list import overstaying
from wise_tally.core.derived import derived
from wise_tally.core.drop_off import losses
from wise_tally.core.exits import WAYS, exits
from wise_tally.core.lines import owner_filtered
from wise_tally.core.time_in_stage import (
    DaysToWin,
    StageTimeGroup,
    days_to_win,
    deals_with_stays,
    stay_lines,
    time_in_stage,
    times_of,
)
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.actions import StageEdit, rule_in_force, set_stages
from wise_tally.domain.process.models import Stage
from wise_tally.pages.conversion.comparison import Against, distinct, read_against
from wise_tally.pages.conversion.drawing import PassingRow, passing_rows, time_groups
from wise_tally.pages.conversion.query import ConversionQuery, line_of, stage_asked
from wise_tally.pages.conversion.workings import Row, conversion_panel, row_named
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.files.tables import exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.paging import paged
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import panel_response

# So many rows of a breakdown, each a table with its picture.
TIME_SIDE_BY_SIDE = 12
PER = {"": "each time in a stage on its own", "deal": "all times of a deal added up"}
# The choices above the bars: parameter, label, and the words of each value.
SWITCHES: dict[str, tuple[str, dict[str, str]]] = {
    "measure": ("Show", {"number": "number", "value": "amount"}),
    "basis": ("Deals", {"created": "created", "entered": "entered first stage", "decided": "closed"}),
    "counting": ("Reached", {"reached": "stage or later", "strict": "stage itself only"}),
    "decided": ("Include", {"all": "all", "only": "closed deals only"}),
}


def _stages_to_leave_out(query: ConversionQuery) -> list[tuple[str, str, bool]]:
    """The open stages of the process: name, the address that leaves it out or puts it back, whether it is left out."""
    reference = query.line.book.reference
    shown = (reference.stages[i] for i in reference.open_stages(query.line.scope.process, with_retired=False))
    return [(stage.name, query.toggled(stage.key), stage.key in query.leave_out) for stage in shown]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Passing: bars of falling length, the loss between them, rates with their bases named."""
    query = ConversionQuery.of(request)
    line, by, options = query.line, query.by, query.options
    members, whole, rows = passing(line, options)
    groups = () if by == "company" else broken_down(line, members, options, by)
    shown, turned = paged(request, groups, query.query())
    answer = {
        **turned,
        "whole": whole,
        **_passing_rows(query, whole, rows),
        **_other_side(query, rows, request.viewer),
        "winning": days_to_win(line.book, line.snapshot, line.period, line.scope)[0],
        "exits": exits_shown(line, options),
        **_counting(query),
        **query.rows_chosen,
        "groups": [(own_scope(line, by, group.key), query.row_query(group.key), group) for group in shown],
        "footer": _footer(query, whole.totals.created, whole.totals.without_history),
    }
    return render(request, "conversion/page.html", answer)


def _passing_rows(query: ConversionQuery, whole: ConversionGroup, rows: list[PassingRow]) -> dict[str, Any]:
    """The stages with the one that loses most, in a sentence, too."""
    leak = max(((row.loss.share, row) for row in rows if row.loss and row.loss.share), key=itemgetter(0), default=None)
    return {"rows": rows, "leak": leak, "answer_sentence": _answer(query, whole, rows, leak[1].key if leak else "")}


def _other_side(query: ConversionQuery, rows: list[PassingRow], viewer: Viewer) -> dict[str, Any]:
    """What the scope is compared with, stage by stage."""
    against, chosen = read_against(query, viewer)
    other = _other(query, against[chosen]) if chosen else None
    return {
        "other": other,
        "pairs": list(zip(rows, other.rows if other else [None] * len(rows), strict=True)),
        "against": replace(query, against=chosen).links("against", {**distinct(against, chosen), "": "nothing"}),
    }


def _counting(query: ConversionQuery) -> dict[str, Any]:
    """Which deals are counted and which stages are shown, with what else can be chosen."""
    return {
        "ways": WAYS,
        "options": query.options,
        "switches": [(label, query.links(name, words)) for name, (label, words) in SWITCHES.items()],
        "stages": _stages_to_leave_out(query),
        "hidden_stages": len(query.leave_out),
        "several": query.by == PRODUCT_GROUP,
        "working": query.query(by=None),
    }


def _answer(query: ConversionQuery, whole: ConversionGroup, rows: list[PassingRow], worst: str) -> SafeString:
    """The stage that loses most of the closed deals, in one sentence."""
    steps = [
        Step(row.name, row.reached, row.loss.lost, row.loss.lost_minor, row.loss.share)
        for row in rows
        if row.loss is not None
    ]
    totals, parameters = whole.totals, query.query(by=None)
    sentence = of_conversion(totals.created, totals.undecided, totals.win_rate_of_created, steps)
    opens = workings("conversion:working", parameters, "of_created")
    return answer_sentence(
        sentence, opens | workings("conversion:working", f"{parameters}&stage={quote(worst)}", "lost")
    )


def _time_answer(line: FilterLine, groups: tuple[StageTimeGroup, ...]) -> SafeString:
    """Where deals stay longer than typical, in one sentence; of the whole scope whatever the breakdown."""
    stages = line.book.reference.stages
    times = [
        Typical(stages[row.stage].name, row.km_median, row.typical_days, row.overstaying or 0)
        for row in (groups[0].stages if groups else ())
    ]
    return answer_sentence(of_time_in_stage(times), {})


def broken_down(line: FilterLine, members: Cohort, options: ConversionOptions, by: str) -> tuple[ConversionGroup, ...]:
    """The nodes of a breakdown that have anything: the best win rate of closed deals first; a tree keeps its order."""
    groups = conversion_of(line.book, line.snapshot, members, line.scope, options, by)
    with_deals = [g for g in groups if g.totals.created or g.totals.closed_won or g.totals.closed_lost]
    if grouping(line.book, by, line.as_of).tree is None:
        with_deals.sort(key=_win_rate, reverse=True)
    return tuple(with_deals)


def _win_rate(group: ConversionGroup) -> float:
    rate = group.totals.win_rate_of_closed
    return -1.0 if rate is None else rate


def passing(line: FilterLine, options: ConversionOptions) -> tuple[Cohort, ConversionGroup, list[PassingRow]]:
    """The cohort of a scope, its conversion and its rows."""
    members = cohort(line.book, line.snapshot, line.period, line.scope, options)
    whole = conversion_of(line.book, line.snapshot, members, line.scope, options)[0]
    lost = losses(line.book, line.snapshot, members, options)
    return members, whole, passing_rows(line, whole, lost, options.by_value)


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
    """What the scope is compared with: in words, its totals and rows (bars on the scale of its own), the query of its workings."""

    label: str
    words: str
    whole: ConversionGroup
    rows: list[PassingRow]
    working: str


def _other(query: ConversionQuery, against: Against) -> Other:
    _, whole, shown = passing(against.line, query.options)
    changes = {"process": query.line.process_value, **against.changes}
    return Other(against.label, against.words, whole, shown, query.query(by=None, per=None, against=None, **changes))


def own_scope(line: FilterLine, by: str, key: str | None) -> str:
    """The query that shows one row of a breakdown alone; empty where the filter line has no such part."""
    if key is None or by not in ("person", "team", "territory"):
        return ""
    return line.query(where=key) if by == "territory" else line.query(who=f"{by}:{key}")


def _footer(query: ConversionQuery, counted: int, lacking: int) -> Footer:
    line = query.line
    of_process = int((line.book.deals.process[line.snapshot.deal] == line.scope.process).sum())
    url = f"{reverse('deals:page')}?{line.query(process=line.process_value)}&status=all"
    files = exports("conversion:table", query.query())
    return Footer(counted, max(0, of_process - counted), url, lacking=lacking, exports=files)


@require_safe
def time(request: PageRequest) -> HttpResponse:
    """Time in stage: medians with open stays as censored, typical days, overstaying."""
    query = ConversionQuery.of(request)
    line, by, per_deal = query.line, query.by, query.per_deal
    groups, whole, deals = _times(line, by, per_deal)
    holding = [group for group in groups if group.has_stays]
    shown, turned = paged(request, holding, query.query(), TIME_SIDE_BY_SIDE)
    answer = {
        "answer_sentence": _time_answer(line, whole),
        **_time_rows(query, shown),
        **turned,
        "winning_months": winning_months(line),
        "per_deal": per_deal,
        "per_links": query.links("per", PER),
        "overstays": _overstays(request, line),
        "may_set": request.viewer.may(May.SET_RULES) and not line.is_past,
        **query.rows_chosen,
        "footer": Footer(deals, exports=exports("conversion:time-table", query.query())),
    }
    return render(request, "conversion/time.html", answer)


def _time_rows(query: ConversionQuery, shown: Sequence[StageTimeGroup]) -> dict[str, Any]:
    """The strips of the nodes shown and their days to win, each with the query of its working."""
    line, shown_keys = query.line, {group.key for group in shown}

    @cache
    def opened(key: str | None) -> str:
        """The query of a row's working: of the whole where there is no breakdown."""
        return query.row_query(key) if query.by != "company" else query.query()

    return {
        "groups": time_groups(line, [(group, opened(group.key)) for group in shown]),
        "winning": [
            (row.name or "without one", opened(row.key), row)
            for row in _winning(line, query.by)
            if row.deals and row.key in shown_keys
        ],
    }


Times = tuple[StageTimeGroup, ...]


@derived()
def _times(line: FilterLine, by: str, per_deal: bool) -> tuple[Times, Times, int]:
    """Time in stage by row and of the whole, and of how many deals; the stays themselves are too many to keep."""
    every = stay_lines(line.book, line.snapshot, line.period, line.scope)
    rows, whole = (times_of(line.book, every, line.scope, one, per_deal) for one in (by, "company"))
    return rows, whole, deals_with_stays(every)


@derived()
def _winning(line: FilterLine, by: str) -> tuple[DaysToWin, ...]:
    return days_to_win(line.book, line.snapshot, line.period, line.scope, by)


MOST_OVERSTAYS = 12
WINNING_MONTHS = 12


@derived()
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


def row_of(query: ConversionQuery, request: PageRequest) -> Row:
    """The row whose figure is opened; the whole where the address names none. Raises Refused."""
    if "row" not in request.GET:
        return Row(per_deal=query.per_deal)
    return row_named(query.line, query.by, request.GET["row"], query.per_deal)


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """The working of a rate, a count or a duration. Days to win may count every process, as dashboards do."""
    query = ConversionQuery.of(request)
    if figure == "days_to_win" and "every" in request.GET:
        query = replace(query, line=read_scope(request, "year"))
    stage = stage_asked(request, query.line)
    panel = conversion_panel(query.line, query.options, figure, stage, row_of(query, request))
    return panel_response(request, query.line, panel, f"{reverse('conversion:page')}?{query.query()}")


@require_POST
@changing_needs(May.SET_RULES)
def set_typical(request: PageRequest) -> HttpResponse:
    """Set the typical days of the ticked stages to the median of the scope, from this moment on."""
    line = line_of(request)
    edits = _typical_edits(line, request.POST.getlist("stage"))
    if not edits:
        raise Refused("Select at least one stage.", 422)
    changed = plural(set_stages(request.viewer, edits, today(), now()), "stage")
    messages.success(request, f"Typical days updated for {changed}. Past dates keep the earlier values.")
    return redirect(f"{reverse('conversion:time')}?{line.query()}")


def _typical_edits(line: FilterLine, keys: list[str]) -> list[StageEdit]:
    stages, edits = line.book.reference.stages, []
    whole = time_in_stage(line.book, line.snapshot, line.period, line.scope)[0]
    rows = {stages[row.stage].key: row for row in whole.stages}
    for key in keys:
        median = rows[key].km_median if key in rows else None
        if median is None:
            raise Refused(f"“{key[:60]}” has no median in this selection. Choose another stage.", 422)
        stage = Stage.objects.get(key=key)
        rule = rule_in_force(stage, now())
        columns = (stage.name, rule.probability_bp, rule.category, round(median * 100))
        edits.append(StageEdit(stage, *columns, stage.own_probability, stage.required))
    return edits
