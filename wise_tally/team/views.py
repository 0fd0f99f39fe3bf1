"""The team's dashboard: six tallies that a manager opens on Monday."""

from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import Period
from wise_tally.core.forecast import forecast
from wise_tally.core.tallies import created_by_period, open_by_stage
from wise_tally.core.time_in_stage import days_to_win
from wise_tally.scope.cumulative import cumulative
from wise_tally.scope.line import ScopeLine, read_scope
from wise_tally.scope.nodes import scope_node, whole_attainment, working_query
from wise_tally.scope.strip import CountStrip
from wise_tally.team.people import people_bars
from wise_tally.ui.ink import share

MOST_ROWS = 6


@dataclass(frozen=True)
class BarRow:
    """A named bar with its value and where it opens."""

    name: str
    value: int
    deals: int
    width: str
    query: str


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """Won against target, per person, by source, by stage, created, days to win."""
    line = read_scope(request)
    whole = whole_attainment(line)
    answer = {
        "line": line,
        "whole": whole,
        "working": working_query(line, scope_node(line)[2]),
        "cumulative": cumulative(line),
        "people": people_bars(line),
        "sources": _sources(line),
        "stages": _stages(line),
        "created": _created(line),
        "winning": days_to_win(line.book, line.standing, line.period, line.scope)[0],
        "winning_before": days_to_win(line.book, line.standing, _before(line), line.scope)[0],
        "strip": CountStrip(
            whole.forecast.deals_won + whole.forecast.deals_open,
            undated=whole.forecast.undated,
            overdue=whole.forecast.overdue,
        ),
    }
    return render(request, "team/page.html", answer)


def _before(line: ScopeLine) -> Period:
    return line.book.ground.fiscal.beside(line.period, -1)


def _sources(line: ScopeLine) -> list[BarRow]:
    rows = [r for r in forecast(line.book, line.standing, line.period, line.scope, "source") if r.won]
    rows = sorted(rows, key=lambda row: -row.won)[:MOST_ROWS]
    largest = max([1, *(row.won for row in rows)])
    return [
        BarRow(
            r.name or "without a source",
            r.won,
            r.deals_won,
            share(r.won, largest),
            working_query(line, f"source:{r.key or ''}"),
        )
        for r in rows
    ]


def _stages(line: ScopeLine) -> list[BarRow]:
    rows = open_by_stage(line.book, line.standing, line.scope)
    largest = max([1, *(row.amount_minor for row in rows)])
    ground = line.book.ground
    shown = []
    for row in rows:
        stage = ground.stages[row.stage]
        name = (
            stage.name if len(ground.processes) == 1 else f"{stage.name}, {ground.processes[stage.process][1].lower()}"
        )
        query = line.query(process=ground.processes[stage.process][0]) + f"&stage={stage.key}"
        shown.append(BarRow(name, row.amount_minor, row.deals, share(row.amount_minor, largest), query))
    return shown


@dataclass(frozen=True)
class Column:
    """A month's column in a drawing 600 wide and 130 high."""

    name: str
    deals: int
    left: int
    middle: int
    top: int
    height: int
    query: str


def _created(line: ScopeLine) -> list[Column]:
    """Deals created in each of the last twelve months."""
    fiscal = line.book.ground.fiscal
    present = fiscal.containing(line.as_of, "month")
    months = tuple(fiscal.beside(present, step) for step in range(-11, 1))
    counts = created_by_period(line.book, line.standing, months, line.scope)
    largest = max([1, *counts])
    columns = []
    for place, (month, deals) in enumerate(zip(months, counts, strict=True)):
        height = deals * 90 // largest
        created = [("f", f"created:from:{month.starts_on}"), ("f", f"created:to:{month.ends_on}")]
        query = urlencode([*line.given, ("status", "all"), *created])
        place_of = (place * 50 + 8, place * 50 + 25, 112 - height, height)
        columns.append(Column(f"{month.starts_on:%b}", deals, *place_of, query))
    return columns
