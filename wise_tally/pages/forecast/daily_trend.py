"""Through the period: won, categories, weighted and calls day by day against quota and pace; each day opens its book."""

from datetime import date

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.answers.forecast import of_trend
from wise_tally.core.calls import calls_in_force
from wise_tally.core.daily_trend import Trend, trend
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.row_targets import carries_quota
from wise_tally.core.targets import pace, quotas
from wise_tally.core.trees import NONE
from wise_tally.pages.forecast.overview import counted_here
from wise_tally.pages.forecast.tabs import tabs
from wise_tally.pages.forecast.trend_chart import DayColumn, trend_chart
from wise_tally.web.answers import say, span_of, workings
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest

MOST_COLUMNS = 100


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
    columns = _columns(line, found)
    told = of_trend(
        span_of(line),
        columns[-1].won if columns else 0,
        pace(reference, line.as_of, line.period).of(by, node).value if carried else None,
        quota,
    )
    node_query = f"{line.query()}&node={scope_node(line)[2]}"
    lines = forecast_lines(line.book, line.snapshot, line.period, line.scope, "company")
    answer = {
        "line": line,
        "say": say(told, workings("forecast:working", node_query, "won", "won_to_pace", "gap", "attainment")),
        "tabs": tabs(line, "through"),
        "chart": trend_chart(line, columns, lines, quota) if columns else None,
        "drawn": columns,
        "quota": quota,
        "last": columns[-1] if columns else None,
        "node": scope_node(line)[2],
        "categories": [f"category:{c}" for c in reference.surest_first],
        "names": [reference.categories[c].name for c in reference.surest_first],
        "footer": Footer(
            counted_here(lines),
            exports=exports("forecast:through-table", line.query()),
        ),
    }
    return render(request, "forecast/through.html", answer)


def _columns(line: FilterLine, found: Trend) -> list[DayColumn]:
    """The days so far, at most a hundred of them, the last among them."""
    reference, surest = line.book.reference, list(line.book.reference.surest_first)
    by, node, _ = scope_node(line)
    carried = carries_quota(line.scope, by)
    every = -(-len(found.days) // MOST_COLUMNS)
    shown = []
    for i in range((len(found.days) - 1) % every, len(found.days), every):
        day = date.fromordinal(int(found.days[i]))
        call = calls_in_force(reference, day, line.period).get((by, NONE if by == "company" else node))
        shown.append(
            DayColumn(
                day=int(found.days[i]),
                won=int(found.won[i]),
                categories=tuple(int(value) for value in found.categories[surest, i]),
                weighted=int(found.weighted[i]),
                pace=pace(reference, day, line.period).of(by, node).value if carried else None,
                call=call.amount_minor if call and carried else None,
                query=line.query(as_of=day.isoformat(), period=line.period.text),
            )
        )
    return shown


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
