"""Pages of the forecast: scope in, core asked, page out."""

from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import Period
from wise_tally.core.deal_list import untouched
from wise_tally.core.forecast import ForecastLines, ForecastRow, carries_quota, forecast, forecast_lines
from wise_tally.core.lines import number_of_deals
from wise_tally.core.tallies import sums_by_period
from wise_tally.core.targets import quotas
from wise_tally.core.trees import NONE
from wise_tally.forecast import words
from wise_tally.forecast.grid import BREAKDOWNS, GridRow, counted_here, grid_rows
from wise_tally.forecast.outlook import outlook
from wise_tally.forecast.tabs import tabs
from wise_tally.forecast.working import panel
from wise_tally.org.access import May
from wise_tally.process.models import Category
from wise_tally.scope.deals import DealRow, deal_rows, stage_choices
from wise_tally.scope.line import ScopeLine, period_words, read_scope
from wise_tally.scope.nodes import scope_node
from wise_tally.scope.strip import CountStrip
from wise_tally.scope.tables import Sheet, exports, sheet_response
from wise_tally.ui.ink import InkBar, ink_bar
from wise_tally.ui.refusals import Refused


@dataclass(frozen=True)
class StripPeriod:
    """A period beside the present one, with its ink bar."""

    label: str
    query: str
    here: bool
    bar: InkBar


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """The grid with the answer above and what moved below."""
    return render(request, "forecast/page.html", page_context(request))


def page_context(request: HttpRequest) -> dict[str, Any]:
    """Everything the forecast page draws."""
    line = read_scope(request)
    by = _breakdown(request)
    opened = frozenset(request.GET.getlist("open"))
    rows = grid_rows(line, by, opened)
    top, token = _top(line)
    lines = forecast_lines(line.book, line.standing, line.period, line.scope, "company")
    shown = outlook(line, lines, top.quota)
    places = [d.at for row in rows for d in row.deals] + shown.places
    found = deal_rows(line, places, request.viewer)  # type: ignore[attr-defined]
    return {
        "line": line,
        "tabs": tabs(line, "page"),
        "by": by,
        "other_by": [(name, _query(line, by=name)) for name in BREAKDOWNS],
        "rows": rows,
        "top": top,
        "top_working": urlencode([*line.given, ("node", token)]),
        "outlook": shown,
        "deciding": [{"row": found[item.at], "deal": item} for item in shown.deciding],
        "moved": [{"row": found[item.at], "deal": item} for item in shown.moved if item.at is not None],
        "grid": _with_deals(rows, found),
        "stages": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
        "may_edit": not line.is_past and request.viewer.may(May.CHANGE_OWN_DEALS),  # type: ignore[attr-defined]
        "periods": _strip_periods(line),
        "no_quota": words.no_quota_reason(by, line.scope.process != NONE, line.scope.territory != NONE),
        "strip": _strip(line, by, lines, top),
        "here": request.get_full_path(),
        "commit": f"category:{line.book.ground.surest_first[0]}" if line.book.ground.surest_first else "open",
        "best": f"category:{line.book.ground.surest_first[1]}" if len(line.book.ground.surest_first) > 1 else "open",
    }


def _breakdown(request: HttpRequest) -> str:
    by = request.GET.get("by", "people")
    if by not in BREAKDOWNS:
        raise Refused(f"“{by[:40]}” is not a breakdown of this grid; accepted: {', '.join(BREAKDOWNS)}.")
    return by


def _query(line: ScopeLine, **more: str) -> str:
    return urlencode([*line.given, *((name, value) for name, value in more.items() if value != "people")])


def _top(line: ScopeLine) -> tuple[ForecastRow, str]:
    """The row of the whole scope, and its token: the person's, the team's, or the company's."""
    ground, scope = line.book.ground, line.scope
    by, node = ("person", scope.person) if scope.person != NONE else ("team", scope.team)
    if node == NONE:
        return forecast(line.book, line.standing, line.period, scope, "company")[0], "company:"
    rows = forecast(line.book, line.standing, line.period, scope, by)
    key = ground.people[node].key if by == "person" else ground.teams[node].key
    return next(row for row in rows if row.node == node), f"{by}:{key}"


def _with_deals(rows: list[GridRow], found: dict[int, DealRow]) -> list[dict[str, Any]]:
    """Rows with their cells, and each opened row's deals with what the page shows of them."""
    cells: list[dict[str, Any]] = []
    for row in rows:
        deals = [{"row": found[d.at], "amount": d.amount_minor, "weighted": d.weighted_minor} for d in row.deals]
        cells.append({"row": row, "deals": deals})
    return cells


def _strip_periods(line: ScopeLine) -> list[StripPeriod]:
    """Two periods back, the present one and three ahead, on one scale."""
    ground = line.book.ground
    periods = tuple(ground.fiscal.beside(line.period, step) for step in range(-2, 4))
    sums = sums_by_period(line.book, line.standing, periods, line.scope)
    by, node, _ = scope_node(line)
    carried = carries_quota(line.scope, by)
    targets = [quotas(ground, line.as_of, p).of(by, node).value if carried else None for p in periods]
    parts = [[row.categories[c] for c in ground.surest_first] for row in sums]
    largest = max([1, *(row.won + sum(p) for row, p in zip(sums, parts, strict=True)), *(t or 0 for t in targets)])
    return [
        StripPeriod(
            label=_short_words(period),
            query=line.query(period=period.text),
            here=period == line.period,
            bar=ink_bar(row.won, money, target, None, largest),
        )
        for period, row, money, target in zip(periods, sums, parts, targets, strict=True)
    ]


def _short_words(period: Period) -> str:
    if period.kind == "quarter":
        return f"{period.text[-2:]} ’{period.text[4:6]}"
    return f"{period.starts_on:%b} ’{period.starts_on:%y}" if period.kind == "month" else period_words(period)


def _strip(line: ScopeLine, by: str, lines: ForecastLines, top: ForecastRow) -> CountStrip:
    at = lines.lines.at
    every, counted = number_of_deals(at), counted_here(lines)
    return CountStrip(
        counted=counted,
        not_counted=every - counted,
        not_counted_url=reverse("forecast:not-counted") + "?" + _query(line),
        undated=top.undated,
        overdue=top.overdue + top.overdue_before,
        undated_deals=number_of_deals(at[lines.counts("undated")]),
        untouched_deals=number_of_deals(at[untouched(line.book, line.standing, at)]),
        list_query=line.query(),
        exports=exports("forecast:table", _query(line, by=by)),
    )


@require_safe
def working(request: HttpRequest, figure: str) -> HttpResponse:
    """The working panel of one figure."""
    line = read_scope(request)
    found = panel(line, figure, request.GET.get("node", "company:"))
    answer = {
        "panel": found,
        "line": line,
        "back": reverse("forecast:page") + "?" + _query(line),
        "all_url": reverse("deals:page") + "?" + _query(line),
    }
    return render(request, "ui/working.html", answer)


@require_safe
def not_counted(request: HttpRequest) -> HttpResponse:
    """Deals of the scope that the page does not count, by reason."""
    line = read_scope(request)
    lines = forecast_lines(line.book, line.standing, line.period, line.scope, "company")
    rest = np.flatnonzero(~lines.deals_here)
    order = rest[np.argsort(-lines.amount_minor[rest], kind="stable")][:200]
    rows = deal_rows(line, [int(lines.lines.at[i]) for i in order])
    found = panel(line, "weighted", _top(line)[1])
    answer = {"line": line, "rows": list(rows.values()), "reasons": found.not_counted, "total": len(rest)}
    return render(request, "forecast/not_counted.html", answer)


@require_safe
def table(request: HttpRequest, kind: str) -> HttpResponse:
    """Exactly what the grid shows, as CSV, XLSX or JSON."""
    line = read_scope(request)
    rows = grid_rows(line, _breakdown(request), frozenset())
    names = ("won", "open", "weighted", "commit_forecast", "quota", "gap")
    sheet = Sheet(
        name="forecast",
        header=("row", *names, "coverage"),
        money=frozenset(names),
        rows=[(r.name, *(getattr(r.row, name) for name in names), r.row.coverage) for r in rows],
    )
    return sheet_response(sheet, kind)
