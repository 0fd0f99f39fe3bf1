"""The forecast grid as rows to draw: the people tree or the territories, opening down to deals."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from urllib.parse import urlencode

import numpy as np

from wise_tally.core.forecast import ForecastLines, ForecastRow, forecast
from wise_tally.core.lines import Filter, grouping, number_of_deals
from wise_tally.core.members import forecast_members
from wise_tally.core.targets import Targets, pace
from wise_tally.core.trees import NONE
from wise_tally.core.working import forecast_working
from wise_tally.scope.line import ScopeLine, in_tree_order
from wise_tally.ui.ink import InkBar, ink_bar
from wise_tally.ui.templatetags.figures import short

MOST_DEALS = 40
BREAKDOWNS = ("people", "territory", "process", "deal_type", "source")
WITHOUT = {"deal_type": "without a deal type", "source": "without a source"}


@dataclass(frozen=True)
class GridDeal:
    """A deal below an opened row: its place in the standing and its parts of the node's figures."""

    at: int
    deal: int
    amount_minor: int
    weighted_minor: int


@dataclass(frozen=True)
class GridRow:
    """One row: `token` names the node in links; figures are the core's row."""

    token: str
    name: str
    depth: int
    row: ForecastRow
    bar: InkBar
    pace: int | None
    is_open: bool
    opens: bool
    toggle: str
    working: str
    commit: int
    best: int
    deals: tuple[GridDeal, ...] = ()
    more: int = 0


@dataclass(frozen=True)
class _Node:
    token: str
    depth: int
    row: ForecastRow
    pace: int | None
    opens: bool


def grid_rows(line: ScopeLine, by: str, opened: frozenset[str]) -> list[GridRow]:
    """Rows of the grid by one of `BREAKDOWNS`; `opened` are the tokens whose deals are shown."""
    trees = {"people": _people, "territory": _territories}
    nodes = list(trees[by](line) if by in trees else _flat(line, by))
    counted = line.book.ground.surest_first
    largest: dict[int, int] = {}
    for node in nodes:
        whole = node.row.won + sum(node.row.categories[c] for c in counted)
        largest[node.depth] = max(largest.get(node.depth, 1), whole, node.row.quota or 0)
    return [_row(line, node, largest[node.depth], by, opened) for node in nodes]


def _row(line: ScopeLine, node: _Node, largest: int, by: str, opened: frozenset[str]) -> GridRow:
    row, counted = node.row, line.book.ground.surest_first
    parts = [row.categories[c] for c in counted]
    bar = replace(ink_bar(row.won, parts, row.quota, node.pace, largest), words=_bar_words(line, node))
    is_open = node.token in opened
    tokens = (opened - {node.token}) if is_open else (opened | {node.token})
    extra = {"by": by} if by != "people" else {}
    toggle = urlencode([*line.given, *extra.items(), *(("open", token) for token in sorted(tokens))])
    deals: tuple[GridDeal, ...] = ()
    more = 0
    if is_open and node.opens:
        deals, more = _deals(line, node.token)
    return GridRow(
        token=node.token,
        name=row.name or "without one",
        depth=node.depth,
        row=row,
        bar=bar,
        pace=node.pace,
        is_open=is_open,
        opens=node.opens,
        toggle=toggle,
        working=urlencode([*line.given, ("node", node.token)]),
        commit=parts[0] if parts else 0,
        best=parts[1] if len(parts) > 1 else 0,
        deals=deals,
        more=more,
    )


def _bar_words(line: ScopeLine, node: _Node) -> str:
    row, ground = node.row, line.book.ground
    parts = [f"won {short(row.won)}"]
    parts += [f"{ground.categories[c].name} {short(row.categories[c])}" for c in ground.surest_first]
    parts += [f"quota {short(row.quota)}", f"pace {short(node.pace)}"]
    return f"{row.name}: " + ", ".join(parts)


def _paces(line: ScopeLine) -> Targets:
    return pace(line.book.ground, line.as_of, line.period)


def _pace(row: ForecastRow, paces: Targets, by: str, node: int) -> int | None:
    return None if row.quota is None else paces.of(by, node).value


def _people(line: ScopeLine) -> Iterator[_Node]:
    book, standing, period, scope = line.book, line.standing, line.period, line.scope
    ground, paces = book.ground, _paces(line)
    if scope.person != NONE:
        row = forecast(book, standing, period, scope, "person")[0]
        yield _Node(f"person:{ground.people[scope.person].key}", 0, row, _pace(row, paces, "person", row.node), True)
        return
    members = forecast_members(book, standing, period, scope)
    teams = {row.node: row for row in forecast(book, standing, period, scope, "team")}
    depth = 0
    if scope.team == NONE:
        company = forecast(book, standing, period, scope, "company")[0]
        yield _Node("company:", 0, company, _pace(company, paces, "company", NONE), False)
        depth = 1
    tree = ground.team_tree(line.as_of)
    start = len(tree.paths[scope.team]) - 1 if scope.team != NONE else 0
    for team, level in in_tree_order(tree):
        if team in teams:
            row, at = teams[team], level - start + depth
            yield _Node(f"team:{ground.teams[team].key}", at, row, _pace(row, paces, "team", team), False)
            yield from _members(line, members, team, at + 1, paces)
    yield from _members(line, members, NONE, depth, paces)


def _members(
    line: ScopeLine, members: dict[tuple[int, int], ForecastRow], team: int, depth: int, paces: Targets
) -> Iterator[_Node]:
    ground = line.book.ground
    here = [(person, row) for (of_team, person), row in members.items() if of_team == team]
    for person, row in sorted(here, key=lambda item: item[1].name or ""):
        # People who neither hold deals nor have a quota (an administrator, say) get no row.
        if not (row.won or row.open or row.quota or row.undated or any(row.categories)):
            continue
        team_key = ground.teams[team].key if team != NONE else ""
        token = f"member:{team_key}/{ground.people[person].key}"
        yield _Node(token, depth, row, _pace(row, paces, "person", person), True)


def _territories(line: ScopeLine) -> Iterator[_Node]:
    book, ground, paces = line.book, line.book.ground, _paces(line)
    rows = {row.node: row for row in forecast(book, line.standing, line.period, line.scope, "territory")}
    if line.scope == Filter():
        company = forecast(book, line.standing, line.period, line.scope, "company")[0]
        yield _Node("company:", 0, company, _pace(company, paces, "company", NONE), False)
    tree = ground.territory_tree(line.as_of)
    for node, level in in_tree_order(tree):
        if node in rows:
            row = rows[node]
            token = f"territory:{ground.territories[node].key}"
            yield _Node(token, level + 1, row, _pace(row, paces, "territory", node), not tree.children(node))
    if NONE in rows:
        yield _Node("territory:", 1, replace(rows[NONE], name="without a territory"), None, True)


def _flat(line: ScopeLine, by: str) -> Iterator[_Node]:
    """Rows that stand side by side below the whole: processes, deal types, sources; quotas that carry just that value."""
    book, period, scope = line.book, line.period, line.scope
    company = forecast(book, line.standing, period, scope, "company")[0]
    yield _Node("company:", 0, company, _pace(company, _paces(line), "company", NONE), False)
    for row in forecast(book, line.standing, period, scope, by):
        named = row if row.node != NONE else replace(row, name=WITHOUT.get(by))
        yield _Node(f"{by}:{row.key or ''}", 1, named, None, True)


def _deals(line: ScopeLine, token: str) -> tuple[tuple[GridDeal, ...], int]:
    """The deals won or open in the period below a row, the open ones first."""
    found = forecast_working(line.book, line.standing, line.period, line.scope, "weighted", *node_of(line, token))
    rows = []
    for item in found.counted:
        at = int(np.searchsorted(line.standing.deal, item.deal))
        rows.append(GridDeal(at, item.deal, item.amount_minor, item.value_minor))
    rows.sort(key=lambda r: (int(line.standing.kind[r.at]), -r.amount_minor))
    return tuple(rows[:MOST_DEALS]), max(0, len(rows) - MOST_DEALS)


def node_of(line: ScopeLine, token: str) -> tuple[str, int, int]:
    """Breakdown, node and person of a token such as `team:north` or `member:fells/r01`.

    Raises LookupError for one that names nothing in the book.
    """
    ground = line.book.ground
    by, _, key = token.partition(":")
    teams = {team.key: i for i, team in enumerate(ground.teams)}
    people = {person.key: i for i, person in enumerate(ground.people)}
    if by == "company":
        return "company", 0, NONE
    if by == "member":
        team, _, person = key.partition("/")
        return "member", teams[team] if team else NONE, people[person]
    if by == "territory":
        return by, {node.key: i for i, node in enumerate(ground.territories)}[key] if key else NONE, NONE
    if by in ("source", "deal_type", "process"):
        names = grouping(ground, by, line.as_of).keys
        return by, names.index(key) if key in names else _nowhere(key), NONE
    return by, {"team": teams, "person": people}[by][key], NONE


def _nowhere(key: str) -> int:
    """The row of deals without the attribute; any other name does not exist."""
    if key:
        raise LookupError(key)
    return NONE


def counted_here(lines: ForecastLines) -> int:
    """Number of deals won, or open and counted, in the period."""
    return number_of_deals(lines.lines.at[lines.deals_here])
