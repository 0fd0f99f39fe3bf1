"""What changed between two days: the bridge by cause, the shift table, and the deals behind each bar and cell."""

from dataclasses import dataclass
from datetime import date, timedelta
from itertools import accumulate
from typing import Any

import numpy as np
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.answers.forecast import of_change
from wise_tally.core.book import BookAsOf
from wise_tally.core.bridge import (
    CAUSE_WORDS,
    CAUSES,
    MEASURES,
    WHERE,
    BridgeRow,
    Moves,
    ShiftTable,
    bridge_moves,
    bridge_rows,
    shift_of,
)
from wise_tally.core.measures import MEASURES as MEASURES_OF_DEALS
from wise_tally.core.measures import valued
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.meeting_actions import hold_meeting, last_meeting
from wise_tally.pages.forecast.query import MEASURE_WORDS as MEASURE_OF
from wise_tally.web.answers import answer_sentence
from wise_tally.web.deal_rows import deal_rows
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.findings.brief import keep_todays
from wise_tally.web.footer import Footer
from wise_tally.web.ink import share
from wise_tally.web.nodes import scope_node
from wise_tally.web.page_query import Link, PageQuery, choice, one_day, text
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.ticks import round_ticks
from wise_tally.web.visibility import visible

MOST_DEALS = 100
SENTENCE_WORDS = {
    "weighted": "The weighted forecast",
    "won": "The won amount",
    "commit_forecast": "The commit forecast",
    "best_case_forecast": "The best-case forecast",
    "open": "The open pipeline",
}
MEASURE_WORDS = {
    "weighted": "weighted",
    "won": "won",
    "commit_forecast": "won + commit",
    "best_case_forecast": "won + commit + best case",
    "open": "open",
}
PLACE_WORDS = {"won": "won", "lost": "lost", "other_period": "other period", "not_there": "not created yet"}


@dataclass(frozen=True)
class Bar:
    """A cause of the bridge drawn from where the sum stood to where it went; `level` opens the sum at either end."""

    cause: str
    words: str
    amount_minor: int
    deals: int
    left: str
    width: str
    query: str
    whole: bool = False
    level: str = ""


@dataclass(frozen=True)
class ShiftCell:
    """A cell of the shift table: deals, amount on the later day, and what the measure moved."""

    deals: int
    after_minor: int
    before_minor: int
    change_minor: int
    query: str


@dataclass(frozen=True)
class ChangesQuery(PageQuery):
    """Two days and a measure, and which bar or cell is opened. A week back is usual; addresses name the day, as it moves."""

    since: date = one_day(name="from")
    measure: str = choice(MEASURES, "weighted")
    counting: str = choice(MEASURES_OF_DEALS)
    opened: str = text(name="open")


def sides(query: ChangesQuery) -> tuple[BookAsOf, BookAsOf]:
    """The book on both days, deals counting for what is asked."""
    line = query.line
    before, after = line.book.as_of(query.since), line.snapshot
    return valued(line.book, before, query.counting), valued(line.book, after, query.counting)


def read_moves(query: ChangesQuery) -> tuple[Moves, ShiftTable]:
    """The bridge deal by deal, and its shift table."""
    line, (before, after) = query.line, sides(query)
    moves = bridge_moves(line.book, before, after, line.period, line.scope, query.measure)
    return moves, shift_of(line.book, (before, after), line.period, line.scope, moves)


def read_change(request: PageRequest) -> ChangesQuery:
    """The two days, measure and what is opened of a request; raises Refused."""
    line = read_scope(request)
    query = ChangesQuery.read(line, request.GET, since=line.as_of - timedelta(days=7))
    if query.since > line.as_of:
        raise Refused(f"{query.since:%-d %b %Y} is after {line.as_of:%-d %b %Y}. Choose an earlier date.")
    return query


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The bridge and the shift table of the scope between two days."""
    query = read_change(request)
    line = query.line
    moves, shift = read_moves(query)
    columns = column_names(line)
    moved = int(np.count_nonzero(moves.moved.any(axis=0)))
    answer = {
        **_comparison(query),
        "may_meet": request.viewer.may(May.SET_RULES) and not line.is_past,
        "presets": _presets(query, request.viewer),
        **_bridge(query, moves),
        "columns": columns,
        "shift": _shift_rows(query, shift, columns),
        "deals": _opened(query, moves, shift),
        "footer": Footer(moved, exports=exports("forecast:changed-table", query.query())),
    }
    return render(request, "forecast/changed.html", answer)


def _comparison(query: ChangesQuery) -> dict[str, Any]:
    """What is compared and how it counts, with what else can be chosen; the queries of what the page opens."""
    line = query.line
    return {
        "since": query.since,
        "measure": query.measure,
        "measure_words": MEASURE_WORDS[query.measure],
        "measures": query.links("measure", MEASURE_WORDS),
        "counting": query.counting,
        "countings": query.links("counting", MEASURE_OF, open=None),
        "carried": query.carried("from", "open"),
        "whole_query": query.query(open=""),
        "query": query.query(),
        "start_query": line.query(as_of=query.since.isoformat(), period=line.period.text),
        "node": scope_node(line)[2],
        "counted": f"&measure={query.counting}",
    }


def _bridge(query: ChangesQuery, moves: Moves) -> dict[str, Any]:
    """The bars from one day to the other, in a sentence, too."""
    bars = _bars(query, moves)
    start, end = bars[0].amount_minor, bars[-1].amount_minor
    return {
        "answer_sentence": _answer(query, bars),
        "bars": bars,
        "axis_start": axis_start(moves),
        "start": start,
        "end": end,
        "change": end - start,
    }


def _answer(query: ChangesQuery, bars: list[Bar]) -> SafeString | None:
    """The change in one sentence; only of money, which every cause of it counts in."""
    if query.counting != "amount":
        return None
    causes = [(bar.words, bar.amount_minor) for bar in bars[1:-1]]
    start, end = bars[0].amount_minor, bars[-1].amount_minor
    sentence = of_change(start, end, causes, day(query.since), SENTENCE_WORDS[query.measure])
    return answer_sentence(sentence, {"whole": f"{reverse('forecast:changed-working')}?{query.query(open='')}"})


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The bridge, or the shift table cell by cell, as CSV, XLSX or JSON."""
    query = read_change(request)
    moves, shift = read_moves(query)
    sheets = {"": lambda: _bridge_sheet(query, moves), "shift": lambda: _shift_sheet(query, shift)}
    return chosen_sheet(request, sheets, kind)


def _bridge_sheet(query: ChangesQuery, moves: Moves) -> Sheet:
    rows = [(bar.cause, bar.amount_minor, bar.deals) for bar in _bars(query, moves, every=True)]
    return Sheet("why it changed", ("cause", "amount", "deals"), frozenset({"amount"}), rows)


def _shift_sheet(query: ChangesQuery, shift: ShiftTable) -> Sheet:
    columns = column_names(query.line)
    rows = [
        (name, to, cell.deals, cell.before_minor, cell.after_minor, cell.change_minor)
        for name, cells, _, _ in _shift_rows(query, shift, columns)
        for (_, to), cell in zip(columns, cells, strict=True)
        if cell
    ]
    money = ("before", "after", "change")
    return Sheet("between categories", ("from", "to", "deals", *money), frozenset(money), rows)


def person_of(line: FilterLine) -> str:
    """The person whom the scope is about; empty for several."""
    return line.book.reference.people[line.scope.person].key if line.scope.person != NONE else ""


@require_POST
def meeting(request: PageRequest) -> HttpResponse:
    """Keep that the scope's meeting is held today, so that the next one compares with it."""
    line = read_scope(request)
    viewer = request.viewer
    hold_meeting(viewer, person_of(line), line.today, now())
    if not line.is_past:
        keep_todays(line, viewer, visible(request), "meeting", now())
    messages.success(request, "Meeting recorded. At the next one you can compare with today’s data.")
    return redirect(f"{reverse('forecast:changed')}?{line.query()}")


def _presets(query: ChangesQuery, viewer: Viewer) -> list[Link]:
    """Days that people compare with."""
    as_of, start = query.line.as_of, query.line.period.starts_on - timedelta(days=1)
    days = [("a week ago", as_of - timedelta(days=7)), ("four weeks ago", as_of - timedelta(days=28))]
    days += [("the period’s start", start)] if start < as_of else []
    met = last_meeting(viewer, person_of(query.line), as_of)
    days += [(f"the last meeting, {day(met)}", met)] if met else []
    return [Link(words, query.query(**{"from": on.isoformat(), "open": None}), on == query.since) for words, on in days]


def axis_start(moves: Moves) -> int:
    """Where the axis of the steps begins: at 0, or, where all of them happen far above it, at a round amount below them.

    A broken axis keeps small causes legible beside large totals; the page says that it is broken and where it begins.
    """
    levels = _levels(moves)
    lowest, highest = min(levels), max(levels)
    if lowest <= 0 or lowest * 2 < highest:
        return 0
    step = round_ticks(max(1, highest - lowest))[0]
    return max(0, (lowest - step) // step * step)


def _levels(moves: Moves) -> list[int]:
    """The sum at the start, after each cause, and at the end."""
    first, *causes, last = bridge_rows(moves)
    return [*accumulate((first.amount_minor, *(cause.amount_minor for cause in causes))), last.amount_minor]


def _bars(query: ChangesQuery, moves: Moves, every: bool = False) -> list[Bar]:
    """start, the causes that moved anything (or every one), end."""
    first, *causes, last = bridge_rows(moves)
    levels, begin = _levels(moves), axis_start(moves)
    room = max(1, max(levels) - begin)

    line, working = query.line, reverse("forecast:working", args=[query.measure])
    started = line.query(as_of=query.since.isoformat(), period=line.period.text)

    def whole(row: BridgeRow) -> Bar:
        width = share(max(row.amount_minor - begin, 0), room)
        parameters = started if row is first else line.query()
        level = f"{working}?{parameters}&measure={query.counting}&node={scope_node(line)[2]}"
        return Bar(row.cause, "", row.amount_minor, row.deals, "0%", width, "", True, level)

    drawn = [
        Bar(
            row.cause,
            CAUSE_WORDS[row.cause],
            row.amount_minor,
            row.deals,
            share(max(min(before, after) - begin, 0), room),
            share(abs(row.amount_minor), room),
            query.query(open=f"cause:{row.cause}"),
        )
        for row, before, after in zip(causes, levels, levels[1:], strict=False)
        if row.deals or every
    ]
    return [whole(first), *drawn, whole(last)]


def column_names(line: FilterLine) -> list[tuple[str, str]]:
    """Identifier and name of each place of the shift table."""
    categories = [(category.key, category.name) for category in line.book.reference.categories]
    return [*categories, *((name, PLACE_WORDS[name]) for name in WHERE)]


def _shift_rows(
    query: ChangesQuery, shift: ShiftTable, columns: list[tuple[str, str]]
) -> list[tuple[str, list[ShiftCell | None], int, str]]:
    """Rows of places that hold a deal: name, cells (None where empty), what the row moved, and where it opens."""
    rows = []
    for i, (key, name) in enumerate(columns):
        if not shift.deals[i].any():
            continue
        cells: list[ShiftCell | None] = []
        for j, (other, _) in enumerate(columns):
            deals, after, before, change = (
                int(table[i, j]) for table in (shift.deals, shift.after, shift.before, shift.change)
            )
            cell = ShiftCell(deals, after, before, change, query.query(open=f"cell:{key}:{other}"))
            cells.append(cell if cell.deals else None)
        rows.append((name, cells, int(shift.change[i].sum()), query.query(open=f"row:{key}")))
    return rows


@dataclass(frozen=True)
class OpenedDeals:
    """The deals behind a bar or cell, the largest change first, and their sum in minor units."""

    words: str
    rows: list[dict[str, Any]]
    total: int
    change_minor: int


def _opened(query: ChangesQuery, moves: Moves, shift: ShiftTable) -> OpenedDeals | None:
    # A single deal is opened in the panel beside the page, which takes the same address.
    shown = query.opened and not query.opened.startswith("deal:")
    return _deals(query, *opened_deals(query, moves, shift)) if shown else None


def opened_deals(query: ChangesQuery, moves: Moves, shift: ShiftTable) -> tuple[str, Ints, Ints]:
    """What the address opens: in words, its deals, and what each deal of the book moved by it. Raises Refused."""
    kind, _, rest = query.opened.partition(":")
    if kind == "cause" and rest in CAUSES:
        change = moves.moved[CAUSES.index(rest)]
        return CAUSE_WORDS[rest], np.flatnonzero(change), change
    columns = column_names(query.line)
    keys = [key for key, _ in columns]
    first, _, second = rest.partition(":")
    if kind == "cell" and first in keys and second in keys:
        i, j = keys.index(first), keys.index(second)
        inside = np.flatnonzero((shift.column_before == i) & (shift.column_after == j))
        return f"from {columns[i][1]} to {columns[j][1]}", inside, moves.end - moves.start
    if kind == "row" and rest in keys:
        i = keys.index(rest)
        there = (shift.column_before == i) & ((shift.column_after != i) | (rest != "not_there"))
        return f"from {columns[i][1]}", np.flatnonzero(there), moves.end - moves.start
    accepted = f"cause:NAME with one of {', '.join(CAUSES)}, or cell:FROM:TO or row:FROM with some of {', '.join(keys)}"
    raise Refused(f"“{query.opened[:60]}” cannot be opened. Choose one of: {accepted}.")


def _deals(query: ChangesQuery, words: str, deals: Ints, change: Ints) -> OpenedDeals:
    order = deals[np.argsort(-np.abs(change[deals]), kind="stable")]
    snapshot = query.line.snapshot
    shown = order[:MOST_DEALS]
    rows_of_deals = np.minimum(np.searchsorted(snapshot.deal, shown), max(len(snapshot.deal) - 1, 0))
    there = [
        (int(index), int(change[deal]))
        for deal, index in zip(shown, rows_of_deals, strict=True)
        if len(snapshot.deal) and snapshot.deal[index] == deal
    ]
    rows = deal_rows(query.line, [index for index, _ in there])
    moved_rows = [{"row": rows[index], "change": moved} for index, moved in there if index in rows]
    return OpenedDeals(words, moved_rows, len(order), int(change[deals].sum()))
