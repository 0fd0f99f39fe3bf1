"""All periods of a year side by side: rows of the grid, a period a column, one figure."""

from dataclasses import dataclass

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.calendar import MONTHS_IN, Period
from wise_tally.core.figure import Figure
from wise_tally.core.forecast import ForecastRow, forecast_of_periods
from wise_tally.core.measures import IN_HUNDREDTHS
from wise_tally.core.targets import NO_TARGET
from wise_tally.pages.forecast.columns import columns_of
from wise_tally.pages.forecast.controls import exported
from wise_tally.pages.forecast.overview import Node, grid_nodes, is_open, shown_nodes, toggled
from wise_tally.pages.forecast.query import ForecastQuery
from wise_tally.web.files.tables import Sheet
from wise_tally.web.filter_line import period_words
from wise_tally.web.request.refusals import Refused


@dataclass(frozen=True)
class YearCell:
    """A figure of one period and the query that opens its working; None where the row has none there."""

    value: int | float | None
    working: str


@dataclass(frozen=True)
class YearRow:
    """A row with a cell a period, the year's last."""

    node: Node
    cells: list[YearCell]
    is_open: bool
    toggle: str


@dataclass(frozen=True)
class YearTable:
    """The periods and rows of a year."""

    column: Figure
    heads: list[tuple[str, bool]]
    rows: list[YearRow]


def periods_of(query: ForecastQuery) -> list[Period]:
    """The year's quarters, or its months where the scope is a month or week; then the year itself."""
    line = query.line
    fiscal = line.book.reference.fiscal
    year = fiscal.fiscal_year_of(line.period.ends_on)
    kind = "month" if line.period.kind in ("month", "week") else "quarter"
    return [
        *(fiscal.part(year, kind, number) for number in range(1, 12 // MONTHS_IN[kind] + 1)),
        fiscal.part(year, "year", 1),
    ]


def year_table(query: ForecastQuery, shown: list[Node]) -> YearTable:
    """One figure of these rows and every period; each cell is the forecast of that period and opens its working."""
    line, name = query.line, query.figure or "weighted"
    column = columns_of(line.book.reference).get(name)
    if column is None or not column.takes_measures or name == "pace":
        raise Refused(f"“{name[:40]}” is not a figure of money of the grid. Choose one from the list.")
    periods = periods_of(query)
    by_breakdown = {by: _by_node(query, periods, by) for by in {node.by for node in shown}}
    rows = []
    for node in shown:
        cells = [
            YearCell(_value(column, by_breakdown[node.by][index], node), query.working(node.token, period=period.text))
            for index, period in enumerate(periods)
        ]
        opened = is_open(query, node)
        rows.append(YearRow(node, cells, opened, toggled(query, node.token, opened)))
    return YearTable(column, [(period_words(p), p == line.period) for p in periods], rows)


def _by_node(query: ForecastQuery, periods: list[Period], by: str) -> list[dict[int, ForecastRow]]:
    line = query.line
    tables = forecast_of_periods(line.book, query.snapshot, periods, line.scope, by)
    return [{row.node: row for row in rows} for rows in tables]


def _value(column: Figure, rows: dict[int, ForecastRow], node: Node) -> int | float | None:
    """The node's value in one period; None where it has no row there."""
    return column.of(AttainmentRow(rows[node.row.node], NO_TARGET)) if node.row.node in rows else None


def year_sheet(query: ForecastQuery) -> Sheet:
    """The table as a file."""
    table = year_table(query, shown_nodes(query, grid_nodes(query, unfolded=True)))
    heads = tuple(words for words, _ in table.heads)
    rows = [
        (row.node.name, row.node.depth, *(exported(query, table.column, cell.value) for cell in row.cells))
        for row in table.rows
    ]
    money = frozenset() if query.measure in IN_HUNDREDTHS else frozenset(heads)
    return Sheet("forecast", ("row", "level", *heads), money, rows)
