"""The page on which a tally is built and kept, the list of kept ones, its files, and the workings of its own measures."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qsl, urlencode

import numpy as np
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.activity import KINDS
from wise_tally.core.breakdowns import grouping
from wise_tally.core.figure import Family, Figure, Kind, Number, Part
from wise_tally.core.figures import GROUPS, REPORTED
from wise_tally.core.lines import rows_inside
from wise_tally.core.measures import BASES, MEASURES
from wise_tally.core.money import ratio
from wise_tally.core.tally import BUCKETS, CountedDeals, counted_deals, stage_deals
from wise_tally.domain.dashboards.actions import (
    arrange,
    change_tally,
    dashboards_of,
    save_tally,
    tallies_of,
)
from wise_tally.domain.dashboards.models import Dashboard, Tally
from wise_tally.domain.formats import as_words, count, days, money, percent
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.clock import now
from wise_tally.pages.team.tallies.query import BY, PINNED, TallyQuestion, read_saved, read_tally
from wise_tally.pages.team.tallies.result import Computing, compute
from wise_tally.pages.team.tallies.shipped import SHIPPED
from wise_tally.pages.team.tallies.tiles import PIN_WORDS, TURNED_OVER, tile_of
from wise_tally.pages.team.tallies.words import BUCKET_WORDS, COMPARED, DRAWINGS
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.conditions import filter_choices
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import node_of
from wise_tally.web.paging import SIDE_BY_SIDE, neighbours, page_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, named_deals, panel_response
from wise_tally.web.working.pins import counted_list

COUNTING_WORDS = {
    "amount": "amount",
    "margin": "margin",
    "deals": "number",
    "first_year": "first-year value",
    "quantity": "quantity",
}
BASIS_WORDS = {"close": "expected close", "payment": "first payment due"}
# The tally that this sign-in took away last, so that it can be undone.
AWAY = "tally_away"
Options = list[tuple[str, str, bool]]


def read(request: PageRequest) -> tuple[FilterLine, TallyQuestion]:
    """The filter line and the tally of an address."""
    line = read_scope(request)
    given = {name: str(text) for name, text in request.GET.items() if name not in PINNED}
    return line, read_tally(given)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The tally as chosen so far, redrawn with every choice, and how to keep it."""
    line, tally = read(request)
    tile = tile_of(request, line, ("", _name(tally)), tally)
    query = "&".join(part for part in (line.query(), urlencode(tally.own())) if part)
    rows = len(tile.result.rows) if tile.result else 0
    # The table behind a picture links to the others; only one that stands alone is turned over.
    sheet = page_of(request, rows, SIDE_BY_SIDE) if tally.drawing in TURNED_OVER else None
    answer = {
        "tile": replace(tile, page=sheet),
        "sheet": sheet,
        **(neighbours(sheet, lambda number: f"{query}&page={number}") if sheet else {}),
        **_of_tally(line, tally),
        "boards": dashboards_of(request.viewer, []).filter(owner__key=request.viewer.key),
        "name": request.GET.get("name", "") or _name(tally),
        "query": query,
        "footer": Footer(rows, what="row", exports=exports("team:tally-table", query)),
    }
    return render(request, "team/tally.html", answer)


def _of_tally(line: FilterLine, tally: TallyQuestion) -> dict[str, Any]:
    """What the tally counts and what else can be chosen; the parts of the filter line that it may keep as its own."""
    return {
        "tally": tally,
        "measures": _measures(tally),
        "choices": _choices(tally),
        "given": [(name, value) for name, value in line.given if name != "kept"],
        "kept_groups": filter_choices(line.book, line.as_of),
        "kept_to": dict(line.given).get("kept", ""),
        "own_parts": [(name, PIN_WORDS[name]) for name, _ in line.given if name in PINNED],
        "kept": urlencode(tally.own()),
    }


def _name(tally: TallyQuestion) -> str:
    """A name that says what the tally shows."""
    if tally.drawing in ("year", "trend", "week"):
        return DRAWINGS[tally.drawing].capitalize()
    words = tally.figure.head
    by = f", by {words_of(tally.by)}" if tally.by not in ("company", "stage") else ""
    within = f" and {words_of(tally.within)}" if tally.within else ""
    bucket = f", {BUCKET_WORDS[tally.bucket]}" if tally.bucket else ""
    return f"{words[0].upper()}{words[1:]}{by}{within}{bucket}"


def _measures(tally: TallyQuestion) -> list[tuple[str, Options]]:
    return [
        (group, [(figure.key, figure.head, figure.key == tally.show) for figure in figures])
        for group, figures in GROUPS.items()
    ]


def _choices(tally: TallyQuestion) -> list[tuple[str, str, Options]]:
    """The selects beside the measure: name, label, options. Those that make no difference are left out."""
    allowed = tally.figure.breakdowns
    every = choices(BY)
    by = every if allowed is None else [(name, words_of(name)) for name in allowed]
    selects = [("by", "rows", _options(by, tally.by))]
    if tally.figure.may_hold_within and tally.by != "company" and not tally.bucket:
        second = [("", "none"), *(one for one in every[1:] if one[0] != tally.by)]
        selects.append(("within", "columns", _options(second, tally.within)))
    if not tally.within:
        selects.append(
            ("bucket", "over time", _options([(name, BUCKET_WORDS[name]) for name in ("", *BUCKETS)], tally.bucket))
        )
    if not tally.within and not tally.bucket:
        selects.append(("against", "compare with", _options(list(COMPARED.items()), tally.against)))
    if tally.figure.takes_measures:
        selects.append(
            ("measure", "measured in", _options([(name, COUNTING_WORDS[name]) for name in MEASURES], tally.measure))
        )
        selects.append(("basis", "date used", _options([(name, BASIS_WORDS[name]) for name in BASES], tally.basis)))
    if tally.figure.family == Family.ACTIVITIES:
        kinds = [("", "all kinds"), *((name, as_words(name)) for name in KINDS)]
        selects.append(("kind", "kind", _options(kinds, tally.kind)))
    selects.append(
        ("draw", "chart type", _options([(name, DRAWINGS[name]) for name in tally.fitting()], tally.drawing))
    )
    return selects


def _options(entries: list[tuple[str, str]], chosen: str) -> Options:
    return [(name, words, name == chosen) for name, words in entries]


@require_POST
def save(request: PageRequest) -> HttpResponse:
    """Keep the tally, share it, put it on a dashboard: all in one."""
    line, viewer = read_scope(request), request.viewer
    tally = read_tally(dict(parse_qsl(request.POST.get("kept", ""))))
    given = dict(line.given)
    if request.POST.get("what") == "put back":
        given, request.session[AWAY] = dict(tally.pinned), None
    pinned = [(name, given[name]) for name in request.POST.getlist("pin") if name in given and name in PINNED]
    saved_query = urlencode([*tally.own(), *pinned])
    saved = save_tally(viewer, request.POST.get("name", ""), saved_query, request.POST.get("shared") == "yes", now())
    if key := request.POST.get("board", ""):
        board = _placed(viewer, saved, key)
        messages.success(request, f"“{saved.name}” was added to {board.name}.")
        return redirect(f"{reverse('team:page')}?{line.query()}&board={board.key}")
    messages.success(request, f"“{saved.name}” was saved.")
    return redirect(f"{reverse('team:tallies')}?{line.query()}")


def _placed(viewer: Viewer, saved: Tally, key: str) -> Dashboard:
    """The viewer's dashboard with the tally on it; raises Refused."""
    board = dashboards_of(viewer, []).filter(owner__key=viewer.key, key=key).first()
    if board is None:
        raise Refused("This dashboard does not exist or is not yours. Choose one from the list.", 404)
    placed = [(tile.tally, tile.wide) for tile in board.tiles.order_by("place")]
    if saved.key not in [one for one, _ in placed]:
        arrange(viewer, board, [*placed, (saved.key, False)], None, now())
    return board


@require_safe
def saved_reports(request: PageRequest) -> HttpResponse:
    """One's own tallies, those that others share, and those that ship."""
    line, viewer = read_scope(request), request.viewer
    own: list[tuple[Tally, str, bool]] = []
    shared: list[tuple[Tally, str, bool]] = []
    for tally in tallies_of(viewer):
        mine = tally.owner.key == viewer.key
        may = mine or viewer.may(May.SET_ORGANISATION)
        (own if mine else shared).append((tally, f"{line.query()}&{tally.query}&name={tally.name}", may))
    shipped = [(one.name, f"{line.query()}&{one.query}") for one in SHIPPED.values()]
    answer = {
        "own": own,
        "shared": shared,
        "shipped": shipped,
        "away": request.session.get(AWAY),
        "footer": Footer(len(own) + len(shared), what="saved report"),
    }
    return render(request, "team/tallies.html", answer)


@require_POST
def change(request: PageRequest, key: str) -> HttpResponse:
    """Share, keep to oneself, or take away a kept tally."""
    viewer = request.viewer
    tally = get_object_or_404(Tally if viewer.may(May.SET_ORGANISATION) else tallies_of(viewer), key=key)
    saved = {
        "name": tally.name,
        "query": tally.query,
        "shared": tally.shared,
        "parts": [p for p, _ in read_saved(tally.query).pinned],
    }
    change_tally(viewer, tally, request.POST.get("what", ""), now())
    if request.POST.get("what") == "away":
        request.session[AWAY] = saved
    return redirect(f"{reverse('team:tallies')}?{read_scope(request).query()}")


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """All rows and columns of a tally as a file."""
    line, tally = read(request)
    result = compute(Computing(line, tally, lambda: visible(request).leads()))
    heads = [head if result.heads.count(head) == 1 else f"{head} {index}" for index, head in enumerate(result.heads, 1)]
    is_money = result.shape == "money" and not result.in_hundredths
    rows: list[tuple[Any, ...]] = []
    for row in result.rows:
        values = [cell.value for cell in row.cells]
        if is_money:
            values = [None if value is None else round(value) for value in values]
        elif result.in_hundredths:
            values = [None if value is None else value / 100 for value in values]
        rows.append((row.name, *values))
    return sheet_response(
        Sheet("report", (words_of(tally.by), *heads), frozenset(heads if is_money else ()), rows), kind
    )


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How a value of a measure of whole deals came about: the deals it counts, for one row."""
    line, tally = read(request)
    if tally.figure.family != Family.LEADS:
        require_deals_behind(tally)
    row = request.GET.get("row") or _first_row(line, tally)
    back = f"{reverse('team:tally')}?{line.query()}&{urlencode(tally.own())}"
    all_url = counted_list(request) if tally.figure.counts else ""
    return panel_response(request, line, panel_of(request, line, tally, row), back, all_url)


def _first_row(line: FilterLine, tally: TallyQuestion) -> str:
    """The row where none is asked for, as after another process: of stages the first, else the one that has no value."""
    return line.book.reference.first_stage(line.scope.process) if tally.figure.family == Family.STAGES else ""


def require_deals_behind(tally: TallyQuestion) -> None:
    """Raise Refused for a measure whose working stands elsewhere, or that rests on no deals."""
    if not _can_be_saved(tally.figure):
        accepted = ", ".join(one.key for one in REPORTED.values() if _can_be_saved(one))
        raise Refused(f"“{tally.show}” is explained on another page. Choose one of: {accepted}.", 404)


def _can_be_saved(figure: Figure) -> bool:
    return bool(figure.counts) and figure.family != Family.FORECAST


def panel_of(request: PageRequest, line: FilterLine, tally: TallyQuestion, row: str) -> Panel:
    """The working of a row's value."""
    computing, figure = Computing(line, tally, lambda: visible(request).leads()), tally.figure
    result = compute(computing)
    value = next((r for r in computing.values(line.period) if (r.key or "") == row), None)
    if figure.family == Family.LEADS:
        return Panel(figure.title, figure.definition, (), count(int((value.value if value else 0) or 0)), figure.head)
    behind = deals_behind(line, tally, row)
    adds = behind.adds
    order = np.argsort(-adds, kind="stable")
    base, part = figure.formula or (Part("deals included", Kind.COUNT), Part("", figure.kind))
    written = PARTS_WRITTEN[part.kind]
    terms = [PanelTerm(base.words, PARTS_WRITTEN[base.kind](behind.base.sum()))]
    if figure.formula:
        share = percent(ratio(int(adds.sum()), int(behind.base.sum())))
        terms += [PanelTerm(part.words, written(adds.sum())), PanelTerm("win rate", share)]
    total = value.value if value else _of_deals(figure, behind)
    exact = figure.kind == Kind.MONEY
    return Panel(
        title=f"{figure.head.capitalize()}, {_row_name(line, tally, row)}",
        definition=figure.definition,
        terms=tuple(terms),
        total=money(None if total is None else round(total)) if exact else result.write(total),
        total_words=figure.head,
        deals=named_deals(line, behind.rows[order].tolist(), [written(v) for v in adds[order][:FIRST_DEALS]]),
        counted=len(adds),
        folded=max(0, len(adds) - FIRST_DEALS),
        folded_value="" if figure.kind in (Kind.DAYS, Kind.PERCENT) else written(adds[order][FIRST_DEALS:].sum()),
    )


def _of_deals(figure: Figure, behind: CountedDeals) -> Number:
    """The value of deals that no row of the tally holds."""
    if figure.kind == Kind.DAYS:
        taken = np.median if figure.key == "days_to_win" else np.mean
        return float(taken(behind.adds)) if len(behind.adds) else None
    if figure.kind == Kind.PERCENT:
        return ratio(int(behind.adds.sum()), int(behind.base.sum()))
    return int(behind.adds.sum())


PARTS_WRITTEN: dict[Kind, Callable[[Any], str]] = {
    Kind.MONEY: lambda value: money(int(value)),
    Kind.DAYS: lambda value: days(float(value)),
    Kind.COUNT: lambda value: count(int(value)),
}


def _row_name(line: FilterLine, tally: TallyQuestion, row: str) -> str:
    if tally.by == "company" and not row:
        return line.who_label
    by, node = _node(line, tally, row)
    return grouping(line.book, by, line.as_of).key_and_name(node)[1] or f"without a {words_of(by)}"


def _node(line: FilterLine, tally: TallyQuestion, row: str) -> tuple[str, int]:
    try:
        return node_of(line.book, f"{tally.by}:{row}", line.as_of)
    except LookupError:
        raise Refused(f"Row “{row[:60]}” not found. Go back and choose one from the page.", 404) from None


def deals_behind(line: FilterLine, tally: TallyQuestion, row: str) -> CountedDeals:
    """The deals behind a row, and what each adds."""
    book, snapshot = line.book, line.snapshot
    if tally.figure.family == Family.STAGES:
        keys = [stage.key for stage in book.reference.stages]
        if row not in keys:
            raise Refused(f"Stage “{row[:60]}” not found. Go back and choose one from the page.", 404)
        rows, adds = stage_deals(book, snapshot, line.scope, (tally.show, keys.index(row)))
        return CountedDeals(rows, adds, np.ones(len(rows), dtype=np.int64))
    counted = counted_deals(book, snapshot, line.period, line.scope, tally.show)
    if tally.by == "company":
        return counted
    by, node = _node(line, tally, row)
    return counted.take(rows_inside(book, snapshot, snapshot.owner[counted.rows], counted.rows, by, node))
