"""The rows of attainment to draw: won against quota and pace, what is still needed, and ranks."""

from collections import Counter
from collections.abc import Container, Sequence
from dataclasses import dataclass, replace

from wise_tally.core.activity import METRIC
from wise_tally.core.attainment import AttainmentRow, DaysOf, deals_needed, four_quarters_before, ranks
from wise_tally.core.breakdowns import grouping
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.measures import AMOUNT
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import hundredths, short
from wise_tally.pages.attainment.query import AttainmentQuery
from wise_tally.web.breakdowns import words_of
from wise_tally.web.filter_line import FilterLine, in_tree_order
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.leavers import name_of_person
from wise_tally.web.nodes import token_of


@dataclass(frozen=True)
class Row:
    """A node with its bar and what is worked out beside its record, in the unit of the measure."""

    record: AttainmentRow
    name: str
    depth: int
    bar: InkBar
    working: str
    needed_per_week: int | None
    at_pace: int | None
    deals_needed: int | None
    rank: int | None
    shares_rank: bool


def closed_by(query: AttainmentQuery, by: str) -> dict[int, ForecastRow]:
    """What each node won and lost in the last four quarters that are over, by node: its own figures to go by."""
    line = query.line
    span = four_quarters_before(line.book.reference.fiscal, line.as_of)
    return {row.node: row for row in forecast(line.book, line.snapshot, span, line.scope, by)}


Place = tuple[int, int, int | None, bool]


def places_of(query: AttainmentQuery) -> list[Place]:
    """Nodes in tree order, others by falling attainment to date: each with its depth, its rank and whether it shares it."""
    rows = {row.forecast.node: row for row in query.rows(query.by)}
    order = _order(query.line, query.by, rows)
    placed = ranks([_ranked_by(rows[node]) for node, _ in order])
    often = Counter(placed)
    return [(node, depth, rank, often[rank] > 1) for (node, depth), rank in zip(order, placed, strict=True)]


def rows_of(query: AttainmentQuery, shown: Sequence[Place] | None = None) -> list[Row]:
    """The rows of the places shown, else of all; one scale a level, which all places of the level share."""
    line, records = query.line, {row.forecast.node: row for row in query.rows(query.by)}
    places = places_of(query)
    largest: dict[int, int] = {}
    for node, depth, *_ in places:
        row = records[node].forecast
        largest[depth] = max(largest.get(depth, 1), row.won + row.open, row.quota or 0)
    closed = closed_by(query, query.by) if query.measure == AMOUNT else {}
    group, days = grouping(line.book, query.by, line.as_of), DaysOf.at(line.period, line.as_of)
    rows = []
    for node, depth, rank, shares_rank in places if shown is None else shown:
        record = records[node]
        past = closed.get(node)
        rows.append(
            Row(
                record,
                name_of(query, record.forecast),
                depth,
                _bar(query, record, largest[depth]),
                query.working(token_of(group, node)),
                days.needed_per_week(record.forecast.gap),
                days.at_todays_pace(record.forecast.won),
                deals_needed(record.forecast.gap, past) if past else None,
                rank if is_flat(query.by) else None,
                shares_rank,
            )
        )
    return rows


def name_of(query: AttainmentQuery, row: ForecastRow) -> str:
    """A row's name; of a person also that they have left."""
    name = row.name or f"without a {words_of(query.by)}"
    return name_of_person(query.line, row.key, name) if query.by == "person" else name


def _ranked_by(record: AttainmentRow) -> float | None:
    """What rows are ranked by: attainment to date; who has no quota has no place."""
    return record.to_date


def is_flat(by: str) -> bool:
    """Whether the rows of a breakdown stand side by side, not in a tree."""
    return by not in ("team", "territory")


def _order(line: FilterLine, by: str, records: dict[int, AttainmentRow]) -> list[tuple[int, int]]:
    """Nodes with their depth. Where rows stand side by side those that hold something, the furthest ahead first."""
    if is_flat(by):
        holding = [(n, r) for n, r in records.items() if r.forecast.won or r.forecast.open or r.forecast.quota]
        holding.sort(key=lambda item: (item[0] == NONE, -(item[1].to_date or 0.0), -item[1].forecast.won))
        return [(node, 0) for node, _ in holding]
    return tree_places(line, by, records)


def tree_places(line: FilterLine, by: str, nodes: Container[int]) -> list[tuple[int, int]]:
    """Teams or territories among `nodes` with their depth, parents before children; what belongs to none comes last."""
    reference = line.book.reference
    tree = reference.team_tree(line.as_of) if by == "team" else reference.territory_tree(line.as_of)
    order = [(node, depth) for node, depth in in_tree_order(tree) if node in nodes]
    return [*order, (NONE, 0)] if NONE in nodes else order


def _bar(query: AttainmentQuery, record: AttainmentRow, largest: int) -> InkBar:
    figures, write = record.forecast, hundredths if query.in_hundredths else short
    parts = [figures.categories[c] for c in query.line.book.reference.surest_first] if query.measure != METRIC else []
    bar = ink_bar(figures.won, parts, figures.quota, record.pace, largest)
    done = "done" if query.counts_activities else "won"
    words = f"{figures.name}: {done} {write(figures.won)}, quota {write(figures.quota)}, pace {write(record.pace)}"
    return replace(bar, words=words)
