"""Pages of the forecast: scope in, core asked, page out."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.core.answers.forecast import Stake, decisive, of_forecast
from wise_tally.core.calendar import Period
from wise_tally.core.dashboard_counts import sums_by_period
from wise_tally.core.deal_list import untouched
from wise_tally.core.forecast import ForecastLines, ForecastRow, deals_without, forecast, forecast_lines
from wise_tally.core.lines import number_of_deals
from wise_tally.core.measures import IN_HUNDREDTHS
from wise_tally.core.row_targets import row_targets
from wise_tally.domain.org.access import May
from wise_tally.domain.org.preference_actions import set_preference
from wise_tally.domain.process.models import Category
from wise_tally.pages.forecast import words
from wise_tally.pages.forecast.below_grid import BelowGrid, below_grid
from wise_tally.pages.forecast.columns import PREFERENCE, accepted, chosen_columns
from wise_tally.pages.forecast.controls import controls, exported, unit_of
from wise_tally.pages.forecast.overview import Node, grid_nodes, grid_rows, number_included, shown_nodes
from wise_tally.pages.forecast.query import MEASURE_WORDS, PEOPLE, ForecastQuery, read_question
from wise_tally.pages.forecast.working import forecast_figure, panel
from wise_tally.pages.forecast.year import year_sheet, year_table
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.deal_rows import DealRow, deal_rows, names_of, stage_choices
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.nodes import scope_node
from wise_tally.web.paging import neighbours, page_of
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import panel_response
from wise_tally.web.working.pins import counted_list

# Rows that stand on one page: of people and teams, whose teams fold, of anything else, and of either where each row shows its
# deals; all of them are in the file.
PEOPLE_AT_ONCE, AT_ONCE, WITH_DEALS_AT_ONCE = 120, 60, 40


@dataclass(frozen=True)
class StripPeriod:
    """A period beside the present one, with its ink bar."""

    label: str
    query: str
    is_current: bool
    bar: InkBar


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The grid with the answer above and what moved below."""
    query = read_question(request)
    template = "forecast/year.html" if query.form == "year" else "forecast/page.html"
    return render(request, template, page_context(request, query))


def page_context(request: PageRequest, query: ForecastQuery) -> dict[str, Any]:
    """Everything the forecast page draws."""
    line, viewer = query.line, request.viewer
    top, token = _top(query)
    lines = forecast_lines(line.book, query.snapshot, line.period, line.scope, "company")
    shown = below_grid(line, top.quota) if query.is_plain else None
    answer = {
        "page_query": query,
        "controls": controls(query, viewer),
        "top": top,
        "top_working": query.working(token),
        "unit": unit_of(query),
        "below": shown,
        "answer_sentence": _answer(query, top, shown) if shown is not None and query.form != "year" else None,
        "periods": _strip_periods(query),
        "no_quota": words.no_quota_reason(query),
        "aside": _aside(query, top),
        "footer": _footer(query, lines, top),
        "this_page": request.get_full_path(),
    }
    nodes = grid_nodes(query)
    drawn, answer["turned"] = _turned_over(request, query, shown_nodes(query, nodes))
    if query.form == "year":
        return answer | {"year": year_table(query, drawn)}
    columns = chosen_columns(viewer, query)
    rows = grid_rows(query, columns, nodes, drawn)
    indices = [deal.row for row in rows for deal in row.deals] + (shown.places if shown else [])
    rows_of_deals = deal_rows(line, indices, viewer)
    answer |= {
        "columns": columns,
        "width": len(columns) + 2,
        "grid": [{"row": row, "deals": [(rows_of_deals[d.row], d.values) for d in row.deals]} for row in rows],
        "stages": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
        # Hundreds of forms on one page help nobody: with all rows open deals are read, not edited.
        "may_edit": not line.is_past and query.rows != "all" and viewer.may(May.CHANGE_OWN_DEALS),
    }
    below = {"deciding": shown.deciding, "moved": shown.moved} if shown else {}
    return answer | {name: _with_rows(rows_of_deals, items) for name, items in below.items()}


def _with_rows(rows: dict[int, DealRow], items: Iterable[Any]) -> list[dict[str, Any]]:
    """Deals below the grid with their rows; those that are no longer there have none."""
    return [{"row": rows[item.row], "deal": item} for item in items if item.row is not None]


def _turned_over(request: PageRequest, query: ForecastQuery, shown: list[Node]) -> tuple[list[Node], dict[str, Any]]:
    """The rows of the page asked for, the whole before them, and the pages before and after."""
    most = WITH_DEALS_AT_ONCE if query.rows == "all" else PEOPLE_AT_ONCE if query.by == PEOPLE else AT_ONCE
    page = page_of(request, len(shown), most)
    whole = [node for node in shown[:1] if page.number > 1 and node.by in ("company", "team")]
    return [*whole, *shown[page.first : page.last]], {"page": page, **neighbours(page, lambda n: query.query(page=n))}


ANSWERED = ("won", "weighted", "weighted_open", "gap", "open", "attainment", "weighted_to_quota", "open_to_quota")


def _answer(query: ForecastQuery, top: ForecastRow, shown: BelowGrid) -> SafeString:
    """The page in one sentence: the forecast against the quota, and the deal that decides."""
    line, parameters = query.line, query.working(scope_node(query.line)[2])
    keys = line.book.deals.key
    index = [int(line.snapshot.deal[item.row]) for item in shown.deciding]
    names = names_of(line.book, index)
    stakes = [
        Stake(names.get(keys[deal], keys[deal]), item.amount_minor, item.if_won, item.if_lost)
        for deal, item in zip(index, shown.deciding, strict=True)
    ]
    one = decisive(stakes)
    page = reverse("deals:deal", args=[keys[index[stakes.index(one)]]]) if one else ""
    sentence = of_forecast(span_of(line), top.won, top.weighted, top.open, top.quota, stakes)
    return answer_sentence(
        sentence, workings("forecast:working", parameters, *ANSWERED) | {"deal": f"{page}?{line.query()}"}
    )


def _aside(query: ForecastQuery, top: ForecastRow) -> list[tuple[str, str, int]]:
    """What is never silently dropped: overdue, due before, undated, categories not counted; words, figure, value."""
    reference = query.line.book.reference
    rest = [index for index in range(len(reference.categories)) if index not in reference.surest_first]
    reasons = [
        ("overdue in this period", "overdue", top.overdue),
        ("overdue from earlier periods", "overdue_before", top.overdue_before),
    ]
    reasons += [("no close date", "undated", top.undated)]
    return [*reasons, *((f"in {reference.categories[c].name}", f"category:{c}", top.categories[c]) for c in rest)]


@require_POST
def columns(request: PageRequest) -> HttpResponse:
    """Keep the columns that the viewer likes to see; none go back to the usual ones."""
    names = accepted(books.current().reference, request.POST.getlist("column"))
    chosen = "" if request.POST.get("what") == "usual" else ",".join(names)
    set_preference(request.viewer, PREFERENCE, chosen)
    return redirect(safe_next(request, reverse("forecast:page")))


def _top(query: ForecastQuery) -> tuple[ForecastRow, str]:
    """The row of the whole scope, and its token: the person's, the team's, or the company's."""
    line = query.line
    by, node, token = scope_node(line)
    rows = forecast(line.book, query.snapshot, line.period, line.scope, by)
    return next(row for row in rows if row.node == node), token


def _strip_periods(query: ForecastQuery) -> list[StripPeriod]:
    """Two periods back, the present one and three ahead, on one scale."""
    line, reference = query.line, query.line.book.reference
    periods = tuple(reference.fiscal.shifted(line.period, step) for step in range(-2, 4))
    sums = sums_by_period(line.book, query.snapshot, periods, line.scope)
    by, node, _ = scope_node(line)
    targets = [row_targets(line.book, query.snapshot, p, line.scope, by)(node).value for p in periods]
    parts = [[row.categories[c] for c in reference.surest_first] for row in sums]
    largest = max([1, *(row.won + sum(p) for row, p in zip(sums, parts, strict=True)), *(t or 0 for t in targets)])
    return [
        StripPeriod(
            label=_short_words(period),
            query=query.fresh(period=period.text),
            is_current=period == line.period,
            bar=ink_bar(row.won, money, target, None, largest),
        )
        for period, row, money, target in zip(periods, sums, parts, targets, strict=True)
    ]


def _short_words(period: Period) -> str:
    if period.kind == "quarter":
        return f"{period.text[-2:]} ’{period.text[4:6]}"
    return f"{period.starts_on:%b} ’{period.starts_on:%y}" if period.kind == "month" else period_words(period)


def _footer(query: ForecastQuery, lines: ForecastLines, top: ForecastRow) -> Footer:
    line, rows = query.line, lines.lines.rows
    every, counted = number_of_deals(rows), number_included(lines)
    lacking = "" if lines.lines.snapshot.known is None else MEASURE_WORDS[query.measure]
    return Footer(
        counted=counted,
        not_counted=every - counted,
        not_counted_url=reverse("forecast:not-counted") + "?" + line.query(),
        undated=top.undated if query.is_plain else None,
        overdue=top.overdue + top.overdue_before if query.is_plain else None,
        undated_deals=number_of_deals(rows[lines.counts("undated")]),
        untouched_deals=number_of_deals(rows[untouched(line.book, line.snapshot, rows)]),
        list_query=line.query(),
        exports=exports("forecast:table", query.query()),
        without=(lacking, deals_without(lines)) if lacking else None,
    )


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """The working panel of one figure."""
    query = read_question(request)
    opened, back = (
        panel(query, figure, request.GET.get("node", "company:")),
        f"{reverse('forecast:page')}?{query.query()}",
    )
    all_url = counted_list(request) if forecast_figure(query.line, figure).counts else ""
    return panel_response(request, query.line, opened, back, all_url)


@require_safe
def not_counted(request: PageRequest) -> HttpResponse:
    """Deals of the scope that the page does not count, by reason."""
    query = ForecastQuery(read_scope(request))
    line = query.line
    lines = forecast_lines(line.book, line.snapshot, line.period, line.scope, "company")
    rest = np.flatnonzero(~lines.deals_included)
    order = rest[np.argsort(-lines.amount_minor[rest], kind="stable")][:200]
    rows = deal_rows(line, [int(lines.lines.rows[i]) for i in order])
    opened = panel(query, "weighted", _top(query)[1])
    answer = {"rows": list(rows.values()), "reasons": opened.not_counted, "total": len(rest)}
    return render(request, "forecast/not_counted.html", answer)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Exactly what the grid shows, as CSV, XLSX or JSON."""
    query = read_question(request)
    if query.form == "year":
        return sheet_response(year_sheet(query), kind)
    chosen = chosen_columns(request.viewer, query)
    plain = replace(query, open=(), rows="" if query.rows == "all" else query.rows)
    nodes = grid_nodes(plain, unfolded=True)
    money = frozenset() if query.measure in IN_HUNDREDTHS else frozenset(c.head for c in chosen if c.kind == "money")
    rows = [
        (
            row.node.name,
            row.node.depth,
            *(exported(query, c, value) for c, value in zip(chosen, row.values, strict=True)),
        )
        for row in grid_rows(plain, chosen, nodes, shown_nodes(plain, nodes))
    ]
    return sheet_response(Sheet("forecast", ("row", "level", *(c.head for c in chosen)), money, rows), kind)
