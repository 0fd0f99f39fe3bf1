"""Lost, why: deals lost in the period by reason, stage, person, source, competitor, against the period before."""

from dataclasses import dataclass

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.conversion.question import line_of, tabs
from wise_tally.core.beside import FACETS
from wise_tally.core.calendar import Period
from wise_tally.core.grouping import grouping
from wise_tally.core.lines import owner_groups
from wise_tally.core.lost import LostTable, lost_by, lost_from, lost_in
from wise_tally.core.money import Ints, ratio
from wise_tally.core.trees import NONE
from wise_tally.scope.breakdowns import choices, words_of
from wise_tally.scope.line import ScopeLine, period_words
from wise_tally.scope.panel import FIRST_DEALS, Panel, PanelTerm, named_deals, panel_response
from wise_tally.scope.side import lost_reason_places
from wise_tally.scope.strip import CountStrip
from wise_tally.scope.tables import Sheet, exports, sheet_response
from wise_tally.ui.ink import share
from wise_tally.ui.refusals import Refused
from wise_tally.ui.templatetags.figures import count, money, percent

BY = ("reason", "stage", "person", "source", "competitor", "deal_type", "territory", *FACETS)


@dataclass(frozen=True)
class Lost:
    """The lost deals of a period and of the one before (places in the standing), each with its value among the names."""

    by: str
    names: list[str]
    period: Period
    before: Period
    now: tuple[Ints, Ints]
    then: tuple[Ints, Ints]

    def name(self, value: int) -> str:
        """A value as people read it."""
        return self.names[value] if value != NONE else f"without {words_of(self.by)}"


def read_lost(request: HttpRequest) -> tuple[ScopeLine, Lost]:
    """The lost deals of the scope by what the address asks for; raises Refused."""
    line, by = line_of(request), request.GET.get("by", "reason")
    accepted = [name for name, _ in choices(BY)]
    if by not in accepted:
        raise Refused(f"“{by[:40]}” is no breakdown of lost deals; accepted: {', '.join(accepted)}.")
    before = line.book.ground.fiscal.beside(line.period, -1)
    sides = [lost_in(line.book, line.standing, period, line.scope) for period in (line.period, before)]
    if by == "reason":
        every, place = lost_reason_places(line)
        seen = sorted(set(place[np.concatenate(sides)].tolist()) - {NONE}, key=lambda reason: every[reason])
        names = [every[reason] for reason in seen]
        rank = np.full(len(every) + 1, NONE)
        rank[seen] = np.arange(len(seen))
        values = [rank[place[at]] for at in sides]
    elif by == "stage":
        names = [stage.name for stage in line.book.ground.stages]
        values = [lost_from(line.book, line.standing, at) for at in sides]
    else:
        names = list(grouping(line.book, by, line.as_of).names)
        owner = line.standing.owner
        values = [np.asarray(owner_groups(line.book, line.standing, owner[at], at, by)) for at in sides]
    return line, Lost(by, names, line.period, before, (sides[0], values[0]), (sides[1], values[1]))


def _table(line: ScopeLine, found: Lost) -> LostTable:
    return lost_by(line.standing, (found.now, found.then))


def _query(line: ScopeLine, **more: str) -> str:
    return line.query(process=line.process_value, **more)


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """Rows by value with number and money, and what changed against the period before."""
    line, found = read_lost(request)
    rows = _table(line, found)
    largest = max([1, *(row.amount_minor for row in rows.rows)])
    answer = {
        "line": line,
        "tabs": tabs(line, "lost"),
        "by": found.by,
        "by_words": words_of(found.by),
        "by_links": [(name, words, _query(line, by=name)) for name, words in choices(BY)],
        "before": period_words(found.before),
        "rows": [
            (
                found.name(row.value),
                row,
                share(row.amount_minor, largest),
                rows.share(row),
                _query(line, by=found.by, value=str(row.value)),
            )
            for row in rows.rows
        ],
        "whole": rows.whole,
        "all_query": _query(line, by=found.by),
        "strip": CountStrip(len(found.now[0]), exports=exports("conversion:lost-table", _query(line, by=found.by))),
    }
    return render(request, "conversion/lost.html", answer)


@require_safe
def working(request: HttpRequest) -> HttpResponse:
    """The deals of a row, or all of them; `side` before are those of the period before."""
    line, found = read_lost(request)
    text, earlier = request.GET.get("value", ""), request.GET.get("side") == "before"
    at, values = found.then if earlier else found.now
    known = sorted({int(value) for value in (*found.now[1], *found.then[1])})
    if text and text not in [str(value) for value in known]:
        raise Refused(f"“{text[:20]}” is no row here; accepted: one that the page shows.", 404)
    kept = at[values == int(text)] if text else at
    order = kept[np.argsort(-line.standing.amount_minor[kept], kind="stable")]
    amount = line.standing.amount_minor[order]
    whole = int(line.standing.amount_minor[at].sum())
    period = found.before if earlier else found.period
    name = found.name(int(text)) if text else "all"
    panel = Panel(
        title=f"Lost, {name}",
        definition=f"Deals lost in {period_words(period)}, by the owner on the day, with their amounts as of the day. The reason is that "
        "of the present lost stage; the stage is the furthest open one that the deal ever stood in.",
        terms=(
            PanelTerm(f"{count(len(order))} deals", money(int(amount.sum()))),
            PanelTerm("share of all that was lost", percent(ratio(int(amount.sum()), whole))),
        ),
        total=money(int(amount.sum())),
        total_words="lost",
        deals=named_deals(line, order.tolist(), [money(int(value)) for value in amount[:FIRST_DEALS]]),
        counted=len(order),
        folded=max(0, len(order) - FIRST_DEALS),
        folded_value=money(int(amount[FIRST_DEALS:].sum())),
        not_counted=(("lost for something else", len(at) - len(order)),) if len(at) > len(order) else (),
    )
    return panel_response(request, line, panel, f"{reverse('conversion:lost')}?{_query(line, by=found.by)}")


@require_safe
def table(request: HttpRequest, kind: str) -> HttpResponse:
    """The rows as a file."""
    line, found = read_lost(request)
    rows = [
        (found.name(r.value), r.deals, r.amount_minor, r.deals_before, r.amount_before)
        for r in _table(line, found).rows
    ]
    header = (found.by, "deals", "amount", "deals before", "amount before")
    return sheet_response(Sheet("lost", header, frozenset({"amount", "amount before"}), rows), kind)
