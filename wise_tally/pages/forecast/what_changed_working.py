"""The working of a bar of the bridge, a cell of the shift table, or the whole change."""

import numpy as np
from django.http import HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.bridge import CAUSE_WORDS, CAUSES, Moves, ShiftTable, bridge_rows
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import UNITS, day, plural
from wise_tally.pages.forecast.what_changed import (
    MEASURE_WORDS,
    ChangesQuery,
    column_names,
    opened_deals,
    read_change,
    read_moves,
)
from wise_tally.web.deal_rows import names_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelDeal, PanelTerm, panel_response

STEPS = (
    "Each deal’s change between the two dates is split by cause, in this order: new or not, team or "
    "territory, period, amount, won or lost, category, probability. What each step changes of the figure "
    "is booked under its cause."
)


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """The panel of what the address opens; of the whole change where it opens nothing."""
    query = read_change(request)
    line = query.line
    moves, shift = read_moves(query)
    panel = _opened(query, moves, shift) if query.opened else _whole(query, moves)
    back = f"{reverse('forecast:changed')}?{query.query()}"
    return panel_response(request, line, panel, back, f"{back}#deals")


def _title(query: ChangesQuery, words: str) -> str:
    return f"{words.capitalize()}: {MEASURE_WORDS[query.measure]} from {day(query.since)} to {day(query.line.as_of)}"


def _whole(query: ChangesQuery, moves: Moves) -> Panel:
    first, *causes, last = bridge_rows(moves)
    terms = [PanelTerm(day(query.since), UNITS[query.counting](first.amount_minor))]
    terms += [
        PanelTerm(f"{CAUSE_WORDS[row.cause]}, {plural(row.deals, 'deal')}", UNITS[query.counting](row.amount_minor))
        for row in causes
        if row.deals
    ]
    terms.append(PanelTerm(day(query.line.as_of), UNITS[query.counting](last.amount_minor)))
    change = moves.end - moves.start
    total = UNITS[query.counting](last.amount_minor - first.amount_minor)
    return _with_deals(query, Panel(_title(query, "change"), STEPS, tuple(terms), total, "change"), change)


def _opened(query: ChangesQuery, moves: Moves, shift: ShiftTable) -> Panel:
    kind, _, rest = query.opened.partition(":")
    if kind == "deal":
        return _of_deal(query, moves, rest)
    words, deals, change = opened_deals(query, moves, shift)
    if kind == "cause":
        up, down = change[change > 0], change[change < 0]
        terms = [PanelTerm(f"increases, {plural(len(up), 'deal')}", UNITS[query.counting](int(up.sum())))]
        terms.append(PanelTerm(f"decreases, {plural(len(down), 'deal')}", UNITS[query.counting](int(down.sum()))))
        text = f"Effect of “{words}”. Step {CAUSES.index(rest) + 1} of {len(CAUSES)}. {STEPS}"
    else:
        keys = [key for key, _ in column_names(query.line)]
        first, _, second = rest.partition(":")
        cell = (keys.index(first), keys.index(second) if kind == "cell" else slice(None))
        terms = [
            PanelTerm(f"amount on {day(query.since)}", UNITS[query.counting](int(shift.before[cell].sum()))),
            PanelTerm(f"amount on {day(query.line.as_of)}", UNITS[query.counting](int(shift.after[cell].sum()))),
        ]
        text = "Deals that were in the row’s category on the first date and in the column’s on the second."
    moved = np.zeros_like(change)
    moved[deals] = change[deals]
    total = UNITS[query.counting](int(moved.sum()))
    return _with_deals(
        query, Panel(_title(query, words), text, tuple(terms), total, "moved", counted=len(deals)), moved
    )


def _of_deal(query: ChangesQuery, moves: Moves, key: str) -> Panel:
    """What one deal moved, by cause."""
    book = query.line.book
    deal = book.index_by_key.get(key, NONE)
    # A deal outside the scope has no part in the figure, and is not named.
    if deal == NONE or not (moves.start[deal] or moves.end[deal] or any(row[deal] for row in moves.moved)):
        raise Refused(f"Deal “{key[:60]}” not found. Go back and choose one from the page.", 404)
    terms = [PanelTerm(day(query.since), UNITS[query.counting](int(moves.start[deal])))]
    moved = [int(row[deal]) for row in moves.moved]
    terms += [PanelTerm(CAUSE_WORDS[c], UNITS[query.counting](v)) for c, v in zip(CAUSES, moved, strict=True) if v]
    terms.append(PanelTerm(day(query.line.as_of), UNITS[query.counting](int(moves.end[deal]))))
    name = names_of(book, [deal]).get(key, key)
    total = UNITS[query.counting](int(moves.end[deal] - moves.start[deal]))
    return Panel(_title(query, name), STEPS, tuple(terms), total, "moved", counted=1)


def _with_deals(query: ChangesQuery, panel: Panel, change: Ints) -> Panel:
    """The panel with the deals that moved the figure, the largest change first."""
    moved = np.flatnonzero(change)
    order = moved[np.argsort(-np.abs(change[moved]), kind="stable")]
    names = names_of(query.line.book, order[:FIRST_DEALS].tolist())
    keys = [query.line.book.deals.key[int(deal)] for deal in order[:FIRST_DEALS]]
    shown = tuple(
        PanelDeal(key, names.get(key, key), UNITS[query.counting](int(change[deal])))
        for key, deal in zip(keys, order[:FIRST_DEALS], strict=True)
    )
    rest = order[FIRST_DEALS:]
    values = (shown, panel.counted or len(order), len(rest), UNITS[query.counting](int(change[rest].sum())))
    return Panel(panel.title, panel.definition, panel.terms, panel.total, panel.total_words, *values)
