"""The forecast grid as rows to draw: a breakdown with its tree, a second one within, opening down to deals."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from wise_tally.core.breakdowns import MEMBER, Grouping, Pairs, grouping, pair
from wise_tally.core.buckets import FIGURES
from wise_tally.core.figure import Figure
from wise_tally.core.forecast import ForecastLines, ForecastRow, forecast
from wise_tally.core.lines import Filter, number_of_deals
from wise_tally.core.observed_weight import weighted_by_observed
from wise_tally.core.outlook.distribution import outcome_of
from wise_tally.core.outlook.rows import of_deals, outlook_rows, stakes_of
from wise_tally.core.row_targets import row_targets
from wise_tally.core.trees import NONE, Tree
from wise_tally.core.working import lines_inside
from wise_tally.domain.formats import short
from wise_tally.pages.forecast.columns import ColumnSources, value_of
from wise_tally.pages.forecast.query import PEOPLE, ForecastQuery
from wise_tally.web.breakdowns import words_of
from wise_tally.web.filter_line import in_tree_order
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.leavers import name_of_person
from wise_tally.web.nodes import token_of

MOST_DEALS, MOST_OF_EACH = 40, 3
# From so many people on teams stand shut at first.
FOLDED_FROM = 60


@dataclass(frozen=True)
class Node:
    """A row's place: the breakdown it belongs to, how deep it stands, and whether rows stand below it."""

    by: str
    depth: int
    row: ForecastRow
    inner: bool
    token: str
    name: str
    # Whether it is shut unless opened by hand: a team of a scope with many people.
    folds: bool = False


@dataclass(frozen=True)
class GridDeal:
    """A deal below an opened row: its row of the snapshot and its part of each column, None where it has none."""

    row: int
    deal: int
    values: tuple[int | None, ...]


@dataclass(frozen=True)
class GridRow:
    """One row with its ink bar and the values of its columns; `toggle` opens or shuts it."""

    node: Node
    values: tuple[int | float | None, ...]
    bar: InkBar
    is_open: bool
    toggle: str
    working: str
    deals: tuple[GridDeal, ...] = ()
    more: int = 0


def grid_nodes(query: ForecastQuery, unfolded: bool = False) -> list[Node]:
    """All rows of the question, those above before those within; of many people those of opened teams, unless `unfolded`."""
    if query.by == PEOPLE:
        return list(_people(query, unfolded))
    return list(_territories(query) if query.by == "territory" else _flat(query))


def grid_rows(query: ForecastQuery, columns: list[Figure], nodes: list[Node], shown: list[Node]) -> list[GridRow]:
    """The rows to draw, some of all, with their deals where they are opened."""
    attributes = attributes_by_breakdown(query, {node.by for node in nodes}, columns)
    counted = query.line.book.reference.surest_first
    largest: dict[int, int] = {}
    for node in nodes:
        whole = node.row.won + sum(node.row.categories[c] for c in counted)
        largest[node.depth] = max(largest.get(node.depth, 1), whole, node.row.quota or 0)
    most = MOST_OF_EACH if query.rows == "all" else MOST_DEALS
    return [_row(query, node, largest[node.depth], columns, (attributes[node.by], most)) for node in shown]


def attributes_by_breakdown(
    query: ForecastQuery, breakdowns: set[str], columns: list[Figure]
) -> dict[str, ColumnSources]:
    """What the records of each breakdown do not hold; only what a column shows is computed."""
    line, names = query.line, {column.key for column in columns}
    scope = (line.book, query.snapshot, line.period, line.scope)
    by_breakdown = {}
    for by in breakdowns:
        values: dict[str, dict[int, int]] = {}
        if "seen" in names:
            values["seen"] = weighted_by_observed(*scope, by)
        if "outlook" in names:
            values["outlook"] = {node: row.mean for node, row in outlook_rows(*scope, by).items()}
        by_breakdown[by] = ColumnSources(
            values, partial(_chance_of_quota, query, by), row_targets(*scope, by, to_date=True)
        )
    return by_breakdown


def _chance_of_quota(query: ForecastQuery, by: str, row: ForecastRow) -> float | None:
    """The chance of a row's quota by the outlook."""
    line, lines = query.line, query.lines(by)
    if row.quota is None:
        return None
    whole = of_deals(line.book, query.snapshot, line.period)
    stake = stakes_of(line.book, lines, whole, lines_inside(line.book, lines, by, row.node))
    return outcome_of(stake.may_be_won).chance_of(row.quota)


def is_open(query: ForecastQuery, node: Node) -> bool:
    """Whether a row shows what is below it: rows are open, deals and folded teams shut unless the question says otherwise."""
    if node.token in query.shut:
        return False
    usual = {"": node.inner and not node.folds, "all": True, "none": False}[query.rows]
    return usual or node.token in query.open


def shown_nodes(query: ForecastQuery, nodes: list[Node]) -> list[Node]:
    """The rows that no shut row above hides."""
    shown, hidden_below = [], None
    for node in nodes:
        if hidden_below is not None and node.depth > hidden_below:
            continue
        hidden_below = node.depth if node.inner and not is_open(query, node) else None
        shown.append(node)
    return shown


def _row(
    query: ForecastQuery, node: Node, largest: int, columns: list[Figure], extra: tuple[ColumnSources, int]
) -> GridRow:
    attributes, most = extra
    row, counted = node.row, query.line.book.reference.surest_first
    pace = None if row.quota is None else attributes.pace(row.node).value
    bar = ink_bar(row.won, [row.categories[c] for c in counted], row.quota, pace, largest)
    opened = is_open(query, node)
    return GridRow(
        node=node,
        values=tuple(value_of(column, row, attributes) for column in columns),
        bar=replace(bar, words=_bar_words(query, node, pace)),
        is_open=opened,
        toggle=toggled(query, node.token, opened),
        working=query.working(node.token),
        **_deals(query, node, columns, most) if opened and not node.inner else {},  # type: ignore[arg-type]
    )


def toggled(query: ForecastQuery, token: str, opened: bool) -> str:
    """The address with one row shut that is open, or opened that is shut."""
    if opened:
        return replace(query, open=_without(query.open, token), shut=(*query.shut, token)).query()
    return replace(query, open=(*query.open, token), shut=_without(query.shut, token)).query()


def _without(tokens: tuple[str, ...], gone: str) -> tuple[str, ...]:
    return tuple(token for token in tokens if token != gone)


def _bar_words(query: ForecastQuery, node: Node, pace: int | None) -> str:
    row, reference = node.row, query.line.book.reference
    parts = [f"won {short(row.won)}"]
    parts += [f"{reference.categories[c].name} {short(row.categories[c])}" for c in reference.surest_first]
    parts += [f"quota {short(row.quota)}", f"pace {short(pace)}"]
    return f"{node.name}: " + ", ".join(parts)


@dataclass(frozen=True)
class _Rows:
    """The rows of a breakdown and, where a second level is asked for, those within each of its nodes."""

    query: ForecastQuery
    by: str
    group: Grouping
    rows: dict[int, ForecastRow]
    within: dict[int, list[ForecastRow]]
    pairs: Pairs | None

    def nodes(self, node: int, depth: int, name: str, inner: bool = False) -> Iterator[Node]:
        """The node, then those within it."""
        below = self.within.get(node, []) if self.pairs is not None else []
        yield Node(self.by, depth, self.rows[node], inner or bool(below), token_of(self.group, node), name)
        for row in below:
            assert self.pairs is not None
            token = token_of(self.pairs, row.node)
            named = row.name or f"no {words_of(self.query.within)}"
            yield Node(self.pairs.by, depth + 1, row, False, token, named)


def _rows(query: ForecastQuery, by: str) -> _Rows:
    line, snapshot = query.line, query.snapshot
    rows = {row.node: row for row in _forecast(query, by)}
    within: dict[int, list[ForecastRow]] = {}
    pairs: Pairs | None = None
    if query.within:
        group = grouping(line.book, pair(by, query.within), snapshot.as_of)
        assert isinstance(group, Pairs)
        pairs = group
        for row in sorted(_forecast(query, pairs.by), key=lambda r: (r.name is None, r.name or "")):
            within.setdefault(pairs.split(row.node)[0], []).append(row)
    return _Rows(query, by, grouping(line.book, by, snapshot.as_of), rows, within, pairs)


def _forecast(query: ForecastQuery, by: str) -> tuple[ForecastRow, ...]:
    line = query.line
    return forecast(line.book, query.snapshot, line.period, line.scope, by, calls=True)


def _company(query: ForecastQuery) -> Node:
    row = _forecast(query, "company")[0]
    return Node("company", 0, row, True, "company:", row.name or "")


def _folds(query: ForecastQuery) -> bool:
    """Whether the scope holds so many people that teams stand shut at first."""
    line, reference = query.line, query.line.book.reference
    people = np.arange(len(reference.people))
    team = reference.teams_of(people, np.full(len(people), line.as_of.toordinal()))
    if line.scope.team != NONE:
        team = team[np.isin(team, list(reference.team_tree(line.as_of).below(line.scope.team)))]
    return query.rows == "" and len(team) > FOLDED_FROM


def _is_low(tree: Tree, team: int, many_teams: bool) -> bool:
    """Whether a team holds people alone, or, where there are many teams, only teams that do."""
    below = tree.children(team)
    return not below or (many_teams and not any(tree.children(one) for one in below))


def _people(query: ForecastQuery, unfolded: bool) -> Iterator[Node]:
    line = query.line
    reference, scope = line.book.reference, line.scope
    if scope.person != NONE:
        yield from _rows(query, "person").nodes(scope.person, 0, reference.people[scope.person].name)
        return
    teams = {row.node: row for row in _forecast(query, "team")}
    many = not unfolded and _folds(query)
    depth = 0
    if scope.team == NONE:
        yield _company(query)
        depth = 1
    tree = reference.team_tree(line.as_of)
    group = grouping(line.book, "team", line.as_of)
    start = len(tree.paths[scope.team]) - 1 if scope.team != NONE else 0
    members: _Members | None = None
    for team, level in in_tree_order(tree):
        if team in teams:
            rows = level - start + depth
            folds = many and team != scope.team and _is_low(tree, team, len(teams) > FOLDED_FROM)
            named = reference.teams[team].name
            node = Node("team", rows, teams[team], True, token_of(group, team), named, folds)
            yield node
            if is_open(query, node):
                # Where all teams stand shut nobody's own figures are computed.
                members = members or _Members.of(query)
                yield from members.nodes(team, rows + 1)
    if not many or NONE in teams:
        yield from (members or _Members.of(query)).nodes(NONE, depth)


@dataclass(frozen=True)
class _Members:
    """People's rows by the team they belong to."""

    rows: _Rows
    by_team: dict[int, list[ForecastRow]]

    @classmethod
    def of(cls, query: ForecastQuery) -> "_Members":
        """All people of the scope."""
        rows = _rows(query, MEMBER)
        assert isinstance(rows.group, Pairs)
        by_team: dict[int, list[ForecastRow]] = {}
        for node, row in rows.rows.items():
            by_team.setdefault(rows.group.split(node)[0], []).append(row)
        return cls(rows, by_team)

    def nodes(self, team: int, depth: int) -> Iterator[Node]:
        """The people of a team by name."""
        yield from _members(self.rows, self.by_team.get(team, []), depth)


def _members(members: _Rows, rows: list[ForecastRow], depth: int) -> Iterator[Node]:
    for row in sorted(rows, key=lambda row: row.name or ""):
        # People who neither hold deals nor have a quota (an administrator, say) get no row.
        if row.quota or any(getattr(row, name) for name in FIGURES) or any(row.categories):
            yield from members.nodes(
                row.node, depth, name_of_person(members.query.line, row.key, row.name or "without a person")
            )


def _territories(query: ForecastQuery) -> Iterator[Node]:
    line = query.line
    rows = _rows(query, "territory")
    depth = 0
    if line.scope == Filter():
        yield _company(query)
        depth = 1
    tree = line.book.reference.territory_tree(line.as_of)
    for node, level in in_tree_order(tree):
        if node in rows.rows:
            name = line.book.reference.territories[node].name
            yield from rows.nodes(node, level + depth, name, inner=bool(tree.children(node)))
    if NONE in rows.rows:
        yield from rows.nodes(NONE, depth, "without a territory")


def _flat(query: ForecastQuery) -> Iterator[Node]:
    """Rows that stand side by side below the whole: processes, deal types, partners, values of an own field."""
    rows = _rows(query, query.by)
    yield _company(query)
    for node, row in rows.rows.items():
        yield from rows.nodes(node, 1, row.name or f"no {words_of(query.by)}")


def _deals(query: ForecastQuery, node: Node, columns: list[Figure], most: int) -> dict[str, object]:
    """The deals won or open in the period below a row, the open ones first, the largest first."""
    line, snapshot = query.line, query.snapshot
    lines = query.lines(node.by)
    inside = lines_inside(line.book, lines, node.by, node.row.node) & lines.deals_included
    rows, deal_index = np.unique(lines.lines.rows[inside], return_inverse=True)
    amount = np.zeros(len(rows), dtype=np.int64)
    np.add.at(amount, deal_index, lines.amount_minor[inside])
    tables = []
    for column in columns:
        values = np.zeros(len(rows), dtype=np.int64)
        if column.key in lines.buckets.names:
            np.add.at(values, deal_index, lines.value_minor(column.key)[inside])
        tables.append(values)
    order = np.lexsort((-amount, snapshot.kind[rows]))[:most]
    deals = tuple(
        GridDeal(int(rows[i]), int(snapshot.deal[rows[i]]), tuple(int(table[i]) or None for table in tables))
        for i in order
    )
    return {"deals": deals, "more": len(rows) - len(deals)}


def number_included(lines: ForecastLines) -> int:
    """Number of deals won, or open and counted, in the period."""
    return number_of_deals(lines.lines.rows[lines.deals_included])
