"""Through the period: won, categories, weighted and calls day by day against quota and pace; each day opens its book."""

from dataclasses import dataclass
from datetime import date

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.calls import calls_in_force
from wise_tally.core.daily_trend import Trend, trend
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.row_targets import carries_quota
from wise_tally.core.targets import pace, quotas
from wise_tally.core.trees import NONE
from wise_tally.pages.forecast.overview import counted_here
from wise_tally.pages.forecast.tabs import tabs
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.ink import Segment, share
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest

MOST_COLUMNS = 100


@dataclass(frozen=True)
class DayColumn:
    """One day (or the last of a few) drawn as a stack of certainty, with its figures in minor units."""

    day: int
    won: int
    categories: tuple[int, ...]
    weighted: int
    pace: int | None
    call: int | None
    x: str
    width: str
    stack: tuple[Segment, ...]
    weighted_y: str
    pace_y: str
    call_y: str
    query: str


def _trend(line: FilterLine) -> Trend:
    """The trend from the period's start (at the latest today) to the as-of day or the period's end."""
    last = min(line.as_of, line.period.ends_on)
    first = min(line.period.starts_on, last)
    return trend(line.book, line.period, first, last, line.scope)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The period day by day."""
    line = read_scope(request)
    found = _trend(line)
    reference = line.book.reference
    by, node, _ = scope_node(line)
    carried = carries_quota(line.scope, by)
    quota = quotas(reference, line.as_of, line.period).of(by, node).value if carried else None
    columns, largest = _columns(line, found, quota)
    answer = {
        "line": line,
        "tabs": tabs(line, "through"),
        "drawn": columns,
        "quota": quota,
        "quota_y": share(largest - quota, largest) if quota is not None else "",
        "largest": largest,
        "last": columns[-1] if columns else None,
        "first_day": found.days[0] if len(found.days) else None,
        "node": scope_node(line)[2],
        "categories": [f"category:{c}" for c in reference.surest_first],
        "names": [reference.categories[c].name for c in reference.surest_first],
        "footer": Footer(
            counted_here(forecast_lines(line.book, line.snapshot, line.period, line.scope, "company")),
            exports=exports("forecast:through-table", line.query()),
        ),
    }
    return render(request, "forecast/through.html", answer)


def _columns(line: FilterLine, found: Trend, quota: int | None) -> tuple[list[DayColumn], int]:
    """Columns to draw, at most a hundred, and the top of their scale in minor units."""
    reference, surest = line.book.reference, list(line.book.reference.surest_first)
    by, node, _ = scope_node(line)
    carried = carries_quota(line.scope, by)
    stacks = np.vstack([found.won[None, :], found.categories[surest]])
    largest = max(int(stacks.sum(axis=0).max(initial=1)), quota or 0, 1)
    every = -(-len(found.days) // MOST_COLUMNS)
    indices = [i for i in range(len(found.days)) if (len(found.days) - 1 - i) % every == 0]
    drawn = []
    for number, i in enumerate(indices):
        day = date.fromordinal(int(found.days[i]))
        at_pace = pace(reference, day, line.period).of(by, node).value if carried else None
        call = calls_in_force(reference, day, line.period).get((by, NONE if by == "company" else node))
        called = call.amount_minor if call and carried else None
        values = [int(value) for value in stacks[:, i]]
        drawn.append(
            DayColumn(
                day=int(found.days[i]),
                won=values[0],
                categories=tuple(values[1:]),
                weighted=int(found.weighted[i]),
                pace=at_pace,
                call=called,
                x=share(number, len(indices)),
                width=share(1, len(indices)),
                stack=_stack(values, largest),
                weighted_y=_height(int(found.weighted[i]), largest),
                pace_y=_height(at_pace, largest),
                call_y=_height(called, largest),
                query=line.query(as_of=day.isoformat(), period=line.period.text),
            )
        )
    return drawn, largest


def _height(value: int | None, largest: int) -> str:
    """Where a value stands, measured from the top; empty for none."""
    return "" if value is None else share(max(largest - value, 0), largest)


def _stack(values: list[int], largest: int) -> tuple[Segment, ...]:
    """Won at the foot, the categories above it, the surest first: grade, top and height."""
    grades = ["won", "commit", *["best"] * max(0, len(values) - 3), *(["early"] if len(values) > 2 else [])]
    drawn, foot = [], 0
    for grade, value in zip(grades, values, strict=False):
        if value > 0:
            drawn.append(Segment(grade, share(largest - foot - value, largest), share(value, largest)))
            foot += value
    return tuple(drawn)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Every day of the period as CSV, XLSX or JSON."""
    line = read_scope(request)
    found = _trend(line)
    names = [category.key for category in line.book.reference.categories]
    rows = [
        (
            date.fromordinal(int(found.days[i])).isoformat(),
            int(found.won[i]),
            *found.categories[:, i].tolist(),
            int(found.weighted[i]),
        )
        for i in range(len(found.days))
    ]
    header = ("day", "won", *names, "weighted")
    return sheet_response(Sheet("through the period", header, frozenset(header[1:]), rows), kind)
