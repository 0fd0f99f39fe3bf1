"""Pages of attainment: won against quota and pace, per team, person and territory."""

from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.row_targets import carries_quota
from wise_tally.core.trees import NONE
from wise_tally.scope.line import ScopeLine, in_tree_order, read_scope
from wise_tally.scope.nodes import scope_node, whole_attainment, working_query
from wise_tally.scope.strip import CountStrip
from wise_tally.scope.tables import Sheet, exports, sheet_response
from wise_tally.ui.ink import InkBar, ink_bar
from wise_tally.ui.refusals import Refused
from wise_tally.ui.templatetags.figures import short

BY = ("team", "person", "territory")


@dataclass(frozen=True)
class Row:
    """A node with its bar."""

    record: AttainmentRow
    name: str
    depth: int
    bar: InkBar
    working: str


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """Quota, pace, won and gap of every node."""
    line = read_scope(request, "year")
    by = _by(request)
    whole = whole_attainment(line)
    counted = whole.forecast.deals_won + whole.forecast.deals_open
    query = urlencode([*line.given, ("by", by)])
    answer = {
        "line": line,
        "by": by,
        "by_links": [(name, urlencode([*line.given, ("by", name)])) for name in BY],
        "whole": whole,
        "whole_working": working_query(line, scope_node(line)[2]),
        "rows": rows_of(line, by),
        "carries": carries_quota(line.scope, by),
        "strip": CountStrip(
            counted,
            undated=whole.forecast.undated,
            overdue=whole.forecast.overdue,
            exports=exports("attainment:table", query),
        ),
    }
    return render(request, "attainment/page.html", answer)


def _by(request: HttpRequest) -> str:
    by = request.GET.get("by", "person" if request.viewer.sees_own_only else "team")  # type: ignore[attr-defined]
    if by not in BY:
        raise Refused(f"“{by[:40]}” is not a breakdown of this place; accepted: {', '.join(BY)}.")
    return by


def rows_of(line: ScopeLine, by: str) -> list[Row]:
    """Rows in tree order, people by falling attainment to date; one scale a level."""
    ground = line.book.ground
    found = {row.forecast.node: row for row in attainment(line.book, line.standing, line.period, line.scope, by)}
    if by == "person":
        order = [(n, 0) for n, r in found.items() if r.forecast.won or r.forecast.open or r.forecast.quota]
        order.sort(key=lambda item: -(found[item[0]].to_date or 0.0))
    else:
        tree = ground.team_tree(line.as_of) if by == "team" else ground.territory_tree(line.as_of)
        order = [(node, depth) for node, depth in in_tree_order(tree) if node in found]
        order += [(NONE, 0)] if NONE in found else []
    counted = ground.surest_first
    largest: dict[int, int] = {}
    for node, depth in order:
        row = found[node].forecast
        largest[depth] = max(largest.get(depth, 1), row.won + row.open, row.quota or 0)
    rows = []
    for node, depth in order:
        record = found[node]
        parts = [record.forecast.categories[c] for c in counted]
        bar = ink_bar(record.forecast.won, parts, record.forecast.quota, record.pace, largest[depth])
        words = f"{record.forecast.name}: won {short(record.forecast.won)}, quota {short(record.forecast.quota)}, pace {short(record.pace)}"
        bar = InkBar(bar.segments, bar.quota, bar.pace, words)
        name = record.forecast.name or f"without a {by}"
        rows.append(Row(record, name, depth, bar, working_query(line, f"{by}:{record.forecast.key or ''}")))
    return rows


@require_safe
def table(request: HttpRequest, kind: str) -> HttpResponse:
    """Exactly what the table shows, as a file."""
    line = read_scope(request, "year")
    header = ("name", "quota", "pace", "won", "attainment", "to_date", "gap", "open")
    rows = []
    for row in rows_of(line, _by(request)):
        f, a = row.record.forecast, row.record
        rows.append((row.name, f.quota, a.pace, f.won, f.attainment, a.to_date, f.gap, f.open))
    money = frozenset({"quota", "pace", "won", "gap", "open"})
    return sheet_response(Sheet("attainment", header, money, rows), kind)
