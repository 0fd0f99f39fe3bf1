"""A tally computed: rows and columns of values, each with where its working opens."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any
from urllib.parse import urlencode

from django.db.models import QuerySet
from django.urls import reverse

from wise_tally.core.activity import METRIC
from wise_tally.core.breakdowns import Grouping, Pairs, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.figure import Family, Kind, Number
from wise_tally.core.measures import IN_HUNDREDTHS
from wise_tally.core.same_days import same_days
from wise_tally.core.tally import STAGE, Sides, TallyValue, buckets, change_of, tally_values
from wise_tally.core.trees import NONE
from wise_tally.domain import formats
from wise_tally.domain.deals.models import Lead
from wise_tally.pages.team.tallies.query import TallyQuestion
from wise_tally.web.activities_done import done_in
from wise_tally.web.breakdowns import words_of
from wise_tally.web.deal_columns import attributes_of
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.ink import share
from wise_tally.web.lead_rows import lead_rows
from wise_tally.web.leavers import name_of_person
from wise_tally.web.nodes import scope_node, token_of
from wise_tally.web.request.refusals import Refused

FEW_BARS, FEW_LINES, FEW_COLUMNS = 8, 4, 14
SMALL_SAMPLE = 20
Leads = Callable[[], "QuerySet[Lead, Lead]"]


@dataclass(frozen=True)
class Cell:
    """A value with its place on the scale of the drawing, and the address of its working; `small` has few deals behind it.

    `working` makes the address: of thousands of cells a page shows some.
    """

    value: Number
    width: str
    working: Callable[[], str]
    small: bool = False
    reason: str = ""

    @property
    def url(self) -> str:
        """The address of its working."""
        return self.working()


@dataclass(frozen=True)
class ResultRow:
    """A named row of cells, one a column."""

    name: str
    cells: tuple[Cell, ...]


@dataclass(frozen=True)
class Result:
    """A tally's rows and columns. `shape` says how values are written; `folded` rows are not shown in pictures."""

    heads: tuple[str, ...]
    rows: tuple[ResultRow, ...]
    shape: Kind
    unit: str
    in_hundredths: bool
    note: str = ""
    change: Number = None
    is_over_time: bool = False
    adds_up: bool = True

    def write(self, value: Number, is_short: bool = False) -> str:
        """A value as people read it."""
        if self.shape == Kind.MONEY:
            whole = None if value is None else round(value)
            if self.in_hundredths:
                return formats.hundredths(whole)
            return formats.short(whole) if is_short else formats.whole(whole)
        written: dict[str, Callable[[Any], str]] = {
            "percent": lambda v: formats.percent(v, 0),
            "days": formats.days,
            "times": formats.times,
            "count": formats.count,
        }
        return written[self.shape](value)

    @property
    def shown(self) -> tuple[ResultRow, ...]:
        """The rows that bars show: the largest ones."""
        return self.rows[:FEW_BARS]

    @property
    def not_in_bars(self) -> str:
        """What bars leave to the table, in words; empty where they show all."""
        return self._not_drawn(FEW_BARS)

    @property
    def not_in_lines(self) -> str:
        """What lines leave to the table, in words; empty where they show all."""
        return self._not_drawn(FEW_LINES)

    @property
    def few_heads(self) -> tuple[str, ...]:
        """The heads that fit a page; a file has all."""
        return self.heads[:FEW_COLUMNS]

    def _not_drawn(self, most: int) -> str:
        rest = self.rows[most:]
        if not rest:
            return ""
        number = f"{formats.plural(len(rest), 'more row')} not drawn"
        if not self.adds_up:
            return number
        added = sum(cell.value or 0 for row in rest for cell in (row.cells if self.is_over_time else row.cells[:1]))
        return f"{number}, {self.write(added)}{' ' + self.unit if self.unit else ''} together"


@dataclass(frozen=True)
class Computing:
    """One tally over one filter line; `leads` gives those that the viewer may see."""

    line: FilterLine
    tally: TallyQuestion
    leads: Leads

    @cached_property
    def periods(self) -> tuple[Period, ...]:
        """The spans that stand side by side."""
        line, fiscal = self.line, self.line.book.reference.fiscal
        if self.tally.bucket:
            return buckets(fiscal, line.period, line.as_of, self.tally.bucket)
        if not self.tally.against:
            return (line.period,)
        return tuple(filter(None, same_days(fiscal, line.period, line.as_of, self.tally.against)))

    @cached_property
    def group(self) -> Grouping:
        """The nodes of the rows."""
        return grouping(self.line.book, self.tally.of_core.by, self.line.as_of)

    @cached_property
    def _leads(self) -> Sides:
        names, rows = lead_rows(self.line, self.leads())
        return Sides(leads=rows, lead_sources=tuple(names))

    def _sides(self, period: Period) -> Sides:
        family = self.tally.figure.family
        if family == Family.ACTIVITIES:
            return Sides(done=done_in(self.line, period).of_kind(self.tally.kind))
        if family == Family.CASH:
            return Sides(plans=attributes_of(self.line).plans())
        return self._leads if family == Family.LEADS else Sides()

    def values(self, period: Period) -> tuple[TallyValue, ...]:
        """The rows of one span."""
        line, tally = self.line, self.tally
        query = tally.of_core
        by = scope_node(line)[0]
        if query.by == "company" and tally.figure.family == Family.FORECAST and by != "company":
            # Of a team or person the whole is that node's row, which has its quota.
            rows = tally_values(line.book, line.snapshot, period, line.scope, replace(query, by=by), Sides())
            return tuple(replace(row, node=0) for row in rows if row.node == scope_node(line)[1])
        return tally_values(line.book, line.snapshot, period, line.scope, query, self._sides(period))

    def url(self, node: int, period: Period) -> str:
        """The address of the working of a value."""
        line, tally, family = self.line, self.tally, self.tally.figure.family
        if family in (Family.FORECAST, Family.OUTLOOK):
            token = scope_node(line)[2] if tally.by == "company" else token_of(self.group, node)
            own = {"measure": tally.measure, "basis": tally.basis, "node": token}
            return f"{reverse('forecast:working', args=[tally.show])}?{line.query(period=period.text)}&{urlencode(own)}"
        if family == Family.CASH:
            side = {"cash": "all", "cash_won": "won", "cash_open": "open"}[tally.show]
            return f"{reverse('attainment:cash-working', args=[side])}?{line.query(period=period.text)}"
        if family == Family.ACTIVITIES:
            own = {"measure": METRIC, "kind": tally.kind, "by": tally.by if tally.by != "company" else "person"}
            token = scope_node(line)[2] if tally.by == "company" else token_of(self.group, node)
            return f"{reverse('attainment:working', args=['won'])}?{line.query(period=period.text)}&{urlencode({**own, 'node': token})}"
        if tally.show in ("stage_days", "stage_overstaying"):
            stage = line.book.reference.stages[node]
            process = line.book.reference.processes[stage.process][0]
            query = f"{line.query(period=period.text, process=process)}&{urlencode({'stage': stage.key})}"
            return f"{reverse('conversion:working', args=['time'])}?{query}"
        row = "" if tally.by == "company" or node == NONE else self.group.keys[node]
        own = {**dict(tally.own()), "row": row, "bucket": ""}
        parameters = urlencode({name: value for name, value in own.items() if value or name == "row"})
        return f"{reverse('team:tally-working')}?{line.query(period=period.text)}&{parameters}"


def compute(computing: Computing) -> Result:
    """The tally's rows and columns; raises Refused where measure and breakdown do not go together."""
    tally = computing.tally
    try:
        by_period = [{row.node: row for row in computing.values(period)} for period in computing.periods]
    except UnknownBreakdown as error:
        raise Refused(str(error)) from None
    if tally.within:
        return _crossed(computing, by_period[0])
    nodes = list(dict.fromkeys(node for rows in by_period for node in rows))
    names = {node: rows[node].name for rows in reversed(by_period) for node in rows}
    order = _ordered(computing, nodes, by_period)
    largest = max([1, *(abs(v.value or 0) for rows in by_period for v in rows.values())])
    rows = tuple(
        ResultRow(
            _name(computing, node, names[node]),
            tuple(
                _cell(computing, table.get(node), node, period, largest)
                for table, period in zip(by_period, computing.periods, strict=True)
            ),
        )
        for node in order
    )
    heads = tuple(_head(tally, period) for period in computing.periods)
    return _result(computing, heads, rows)


def _cell(computing: Computing, row: TallyValue | None, node: int, period: Period, largest: float) -> Cell:
    value = row.value if row else (0 if computing.tally.figure.adds_up else None)
    few = row is not None and row.sample is not None and row.sample < SMALL_SAMPLE
    return Cell(
        value,
        share(round(abs(value or 0) * 1_000), round(largest * 1_000)),
        partial(computing.url, node, period),
        few,
        row.reason if row else "",
    )


def _head(tally: TallyQuestion, period: Period) -> str:
    if tally.bucket:
        words = period_words(period)
        return (
            f"{period.starts_on:%b}" if period.kind == "month" else words.replace(" FY20", " ’").replace("week ", "w ")
        )
    return tally.figure.head if not tally.against else period_words(period)


def _name(computing: Computing, node: int, name: str | None) -> str:
    if computing.tally.by == STAGE:
        return computing.group.names[node]
    if computing.tally.by == "person" and name:
        return name_of_person(computing.line, computing.line.book.reference.people[node].key, name)
    return name or f"without a {words_of(computing.tally.by)}"


def _ordered(computing: Computing, nodes: list[int], values: list[dict[int, TallyValue]]) -> list[int]:
    """Rows with something to show, the largest first; stages in their order."""
    if computing.tally.by in (STAGE, "company"):
        return nodes

    def weight(node: int) -> float:
        value = values[0][node].value if node in values[0] else None
        return sum(t[node].value or 0 for t in values if node in t) if computing.tally.bucket else (value or 0)

    holding = [node for node in nodes if any(rows[node].holds for rows in values if node in rows)]
    return sorted(holding, key=lambda node: -weight(node))


def _crossed(computing: Computing, values: dict[int, TallyValue]) -> Result:
    """Rows by the first breakdown, columns by the second."""
    group = computing.group
    assert isinstance(group, Pairs)
    period = computing.periods[0]
    cells = {group.split(node): row for node, row in values.items() if row.value}
    sums: dict[int, float] = {}
    columns: dict[int, float] = {}
    for (first, second), row in cells.items():
        sums[first] = sums.get(first, 0) + abs(row.value or 0)
        columns[second] = columns.get(second, 0) + abs(row.value or 0)
    heads = sorted(columns, key=lambda node: -columns[node])
    largest = max([1, *(abs(row.value or 0) for row in cells.values())])
    rows = tuple(
        ResultRow(
            group.first.key_and_name(first)[1] or f"without a {words_of(computing.tally.by)}",
            tuple(
                _cell(computing, cells.get((first, second)), group.joined(first, second), period, largest)
                for second in heads
            ),
        )
        for first in sorted(sums, key=lambda node: -sums[node])
    )
    names = tuple(
        group.second.key_and_name(node)[1] or f"without a {words_of(computing.tally.within)}" for node in heads
    )
    result = _result(computing, names, rows)
    rest = heads[FEW_COLUMNS:]
    if not rest:
        return result
    added = result.write(sum(columns[node] for node in rest))
    return replace(result, note=f"{len(rest)} more columns, {added} together, are in the file of the table.")


def _result(computing: Computing, heads: tuple[str, ...], rows: tuple[ResultRow, ...]) -> Result:
    tally = computing.tally
    shape = tally.figure.kind
    in_hundredths = tally.figure.takes_measures and tally.measure in IN_HUNDREDTHS
    change: Number = None
    if tally.against and tally.by == "company" and rows and len(heads) > 1:
        change = change_of(*(cell.value for cell in rows[0].cells))
    unit = formats.currency_sign() if shape == Kind.MONEY and not in_hundredths else ""
    is_over_time, adds_up = bool(tally.bucket), tally.figure.adds_up
    return Result(heads, rows, shape, unit, in_hundredths, "", change, is_over_time, adds_up)
