"""Conversion: how many deals of a cohort reached each stage, step by step and from the start."""

from dataclasses import dataclass
from functools import cached_property
from math import isnan

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import grouping
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.derived import Grows, derived
from wise_tally.core.errors import CoreError
from wise_tally.core.lines import Filter, owner_filtered, owner_rows, shown_nodes
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.reach import NEVER, first_win, reach_of_revisions
from wise_tally.core.reference_data import KINDS, LOST, OPEN, WON
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY, Floats, Interval, wilson_bounds
from wise_tally.core.trees import NONE

BASES = ("created", "entered", "decided")


@dataclass(frozen=True)
class ConversionOptions:
    """What cohort is taken and how it is counted. `leave_out` holds open stages."""

    basis: str = "created"
    strict: bool = False
    decided_only: bool = False
    by_value: bool = False
    leave_out: frozenset[int] = frozenset()


@dataclass(frozen=True)
class StageReach:
    """One stage: deals and value (minor units) that reached it, the rate to the next and from the first shown."""

    stage: int
    reached: int
    value: int
    without_history: int
    step: float | None
    step_interval: Interval | None
    from_start: float | None


@dataclass(frozen=True)
class CohortTotals:
    """The cohort of one node: `won`, `lost`, `undecided` are its own; the closed ones have their own base.

    Values are amounts on the as-of day in minor units.
    """

    created: int
    won: int
    lost: int
    undecided: int
    without_history: int
    win_rate_of_created: float | None
    closed_won: int
    closed_lost: int
    win_rate_of_closed: float | None
    created_value: int
    won_value: int
    closed_value: int
    closed_won_value: int


@dataclass(frozen=True)
class ConversionGroup:
    """One node of the breakdown. Its records are made when asked for: a breakdown counts many nodes, a page shows few."""

    node: int
    key: str | None
    name: str | None
    table: "ConversionTable"

    @cached_property
    def stages(self) -> tuple[StageReach, ...]:
        """The node's stages in order, the won stage last."""
        return self.table.stages_of(self.node)

    @cached_property
    def totals(self) -> CohortTotals:
        """The node's cohort."""
        return _totals_of(self.table.totals[self.node], self.table.by_value)


@dataclass(frozen=True)
class ConversionTable:
    """Stages of all nodes, arrays of shape (nodes + 1, stages), the last row that of deals without the attribute.

    Rates and bounds are NaN where there is none. `totals` has a list a node, as `_Counter` orders them.
    """

    stages: tuple[int, ...]
    reached: Ints
    value: Ints
    without_history: Ints
    step: Floats
    low: Floats
    high: Floats
    from_start: Floats
    totals: list[list[int]]
    by_value: bool

    def stages_of(self, node: int) -> tuple[StageReach, ...]:
        """The stages of one node."""
        columns = (self.reached, self.value, self.without_history, self.step, self.low, self.high, self.from_start)
        cells = zip(self.stages, *(column[node].tolist() for column in columns), strict=True)
        return tuple(_stage_row(*row) for row in cells)


@dataclass(frozen=True)
class Cohort:
    """The deals of a process that the scope keeps, with what they reached. Arrays have shape (deals,).

    `furthest` is the place in `order` of the furthest open stage reached, -1 for none, `len(order)` for won deals.
    """

    rows: Ints
    order: tuple[int, ...]
    furthest: Ints
    in_cohort: Flags
    closed_in_window: Flags

    def take(self, rows: Ints) -> "Cohort":
        """The deals of these rows; one may come several times."""
        if len(rows) == len(self.rows) and (rows == np.arange(len(rows))).all():
            return self
        columns = (self.furthest[rows], self.in_cohort[rows], self.closed_in_window[rows])
        return Cohort(self.rows[rows], self.order, *columns)


def cohort(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, options: ConversionOptions) -> Cohort:
    """The deals of `scope.process` as they stood, and which of them make the cohort of the period."""
    if scope.process == NONE:
        raise CoreError("Conversion counts one process at a time; choose a process.")
    order = book.reference.open_stages(scope.process)
    rows = np.flatnonzero(owner_filtered(book, snapshot, scope))
    reach = reach_of_revisions(book, scope.process)
    kind = snapshot.kind[rows]
    furthest = np.where(kind == WON, len(order), reach[snapshot.row[rows]].astype(np.int64))
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    closed_on = snapshot.closed_on[rows]
    closed = (kind != OPEN) & (closed_on >= first) & (closed_on <= last)
    if options.basis == "decided":
        inside = closed
    else:
        day = (
            book.created_on[snapshot.deal[rows]]
            if options.basis == "created"
            else _entered_on(book, snapshot, rows, reach, options, order)
        )
        inside = (day >= first) & (day <= last)
    if options.decided_only:
        inside = inside & (kind != OPEN)
    return Cohort(rows, order, furthest, inside, closed)


def shown_places(book: Book, order: tuple[int, ...], options: ConversionOptions) -> list[int]:
    """Places of the stages that get a row: in `order` but for the won stage, whose place comes last."""
    shown = [i for i, s in enumerate(order) if not book.reference.stages[s].retired and s not in options.leave_out]
    return [*shown, len(order)]


def first_shown(book: Book, order: tuple[int, ...], options: ConversionOptions) -> int:
    """Place in `order` of the first stage that gets a row; -1 where none does."""
    first = shown_places(book, order, options)[0]
    return first if first < len(order) else NONE


def stood_in(book: Book, snapshot: BookAsOf, members: Cohort) -> Flags:
    """Which deals of a cohort stood in each open stage in order and, last, are won; shape (deals, open stages + 1)."""
    return _stood(book, snapshot, members.order)[members.rows]


@derived(Grows.CARRIED)
def _stood(book: Book, snapshot: BookAsOf, order: tuple[int, ...]) -> Flags:
    rev = book.revisions
    index = np.full(len(book.reference.stages), NONE, dtype=np.int64)
    index[list(order)] = np.arange(len(order))
    rows = np.flatnonzero((rev.effective_at < snapshot.cut) & (index[rev.stage] != NONE))
    stood = np.zeros((len(book.deals.key), len(order) + 1), dtype=bool)
    stood[rev.deal[rows], index[rev.stage[rows]]] = True
    stood = stood[snapshot.deal]
    stood[:, -1] = snapshot.kind == WON
    return stood


def _entered_on(
    book: Book, snapshot: BookAsOf, deal_rows: Ints, reach: Ints, options: ConversionOptions, order: tuple[int, ...]
) -> Ints:
    """Local day on which each deal first reached the first shown stage; 0 for never."""
    rev, start = book.revisions, max(first_shown(book, order, options), 0)
    there = (
        (rev.stage == order[start] if order else np.zeros(len(rev.deal), dtype=bool))
        if options.strict
        else reach >= start
    )
    rows = np.flatnonzero(there & (rev.effective_at < snapshot.cut))
    rows = rows[np.r_[True, np.diff(rev.deal[rows]) != 0][: len(rows)]]
    moment = np.full(len(book.deals.key), NEVER)
    moment[rev.deal[rows]] = rev.effective_at[rows]
    entered = moment[snapshot.deal[deal_rows]]
    if not options.strict:
        entered = np.where(
            snapshot.kind[deal_rows] == WON, np.minimum(entered, first_win(book)[0][snapshot.deal[deal_rows]]), entered
        )
    days = np.zeros(len(deal_rows), dtype=np.int64)
    known = entered != NEVER
    days[known] = local_days(entered[known], book.reference.time_zone)
    return days


def conversion(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, options: ConversionOptions, by: str = "company"
) -> tuple[ConversionGroup, ...]:
    """Reached, step and from start per stage for each node of `by`, the node of a deal being its owner's on the day.

    step = reached(next) ÷ reached(this); from start = reached(this) ÷ reached(first shown); the won stage is last.
    Rates are None where a row counts short-form deals and fewer than 20 with history. Source: common practice.
    """
    members = cohort(book, snapshot, period, scope, options)
    return conversion_of(book, snapshot, members, scope, options, by)


def conversion_of(
    book: Book, snapshot: BookAsOf, members: Cohort, scope: Filter, options: ConversionOptions, by: str = "company"
) -> tuple[ConversionGroup, ...]:
    """Conversion of a cohort that is at hand."""
    group = grouping(book, by, snapshot.as_of)
    nodes = len(group.keys)
    rows, direct = owner_rows(book, snapshot, snapshot.owner[members.rows], members.rows, by)
    members = members.take(rows)
    counter = _Counter(book, snapshot, members, np.where(direct == NONE, nodes, direct), nodes)
    tables = counter.tables(options)
    if group.tree is not None:
        tables = [np.vstack([group.tree.roll_up(table[:nodes]), table[nodes:]]) for table in tables]
    holding = np.any([table.any(axis=1) for table in tables], axis=0)
    columns = shown_places(book, members.order, options)
    stages = (*(members.order[i] for i in columns[:-1]), book.reference.won_stage(scope.process))
    table = _table(stages, [members[:, columns] for members in tables[:3]], tables[3].tolist(), options.by_value)
    nodes_shown = shown_nodes(book.reference, scope, group, snapshot.as_of, holding)
    return tuple(
        ConversionGroup(
            node, None if node == NONE else group.keys[node], None if node == NONE else group.names[node], table
        )
        for node in nodes_shown
    )


class _Counter:
    """Counts and values of a cohort per node and stage; the last node is that of deals without the attribute."""

    def __init__(self, book: Book, snapshot: BookAsOf, members: Cohort, node: Ints, nodes: int) -> None:
        self.book, self.snapshot, self.members, self.node, self.nodes = book, snapshot, members, node, nodes
        self.amount = snapshot.amount_minor[members.rows]
        self.short = book.deals.short_form[snapshot.deal[members.rows]]
        self.kind = snapshot.kind[members.rows]

    def tables(self, options: ConversionOptions) -> list[Ints]:
        """Reached deals, value, short-form deals, and totals, each of shape (nodes + 1, columns)."""
        inside = self.members.in_cohort
        short = inside & self.short
        if options.strict:
            stood = stood_in(self.book, self.snapshot, self.members)
            return [
                self._per_stage(stood, inside, None),
                self._per_stage(stood, inside, self.amount),
                self._per_stage(stood, short, None),
                self._totals(),
            ]
        return [
            self._reached(inside, None),
            self._reached(inside, self.amount),
            self._reached(short, None),
            self._totals(),
        ]

    def _reached(self, keep: Flags, weights: Ints | None) -> Ints:
        width = len(self.members.order) + 2
        cell = self.node[keep] * width + self.members.furthest[keep] + 1
        table = self._sum(cell, None if weights is None else weights[keep], width)
        return np.cumsum(table[:, ::-1], axis=1)[:, ::-1][:, 1:]

    def _per_stage(self, stood: Flags, keep: Flags, weights: Ints | None) -> Ints:
        columns = []
        for index in range(stood.shape[1]):
            chosen = keep & stood[:, index]
            columns.append(self._sum(self.node[chosen], None if weights is None else weights[chosen], 1))
        return np.hstack(columns)

    def _totals(self) -> Ints:
        """Columns: created, won, lost, short; value of created and won; closed won, lost, short; their values."""
        inside, closed = self.members.in_cohort, self.members.closed_in_window
        counts, values = self._by_kind(inside, None), self._by_kind(inside, self.amount)
        ends, end_values = self._by_kind(closed, None), self._by_kind(closed, self.amount)
        columns = [counts.sum(axis=1), counts[:, WON], counts[:, LOST], self._short(inside)]
        columns += [values.sum(axis=1), values[:, WON], ends[:, WON], ends[:, LOST], self._short(closed)]
        return np.stack([*columns, end_values[:, WON], end_values[:, LOST]], axis=1)

    def _by_kind(self, keep: Flags, weights: Ints | None) -> Ints:
        cell = self.node[keep] * KINDS + self.kind[keep]
        return self._sum(cell, None if weights is None else weights[keep], KINDS)

    def _short(self, keep: Flags) -> Ints:
        return self._sum(self.node[keep & self.short], None, 1)[:, 0]

    def _sum(self, cell: Ints, weights: Ints | None, width: int) -> Ints:
        size = (self.nodes + 1) * width
        flat = np.bincount(cell, minlength=size) if weights is None else sum_by_group(weights, cell, size)
        return flat.reshape(self.nodes + 1, width).astype(np.int64)


def _table(stages: tuple[int, ...], columns: list[Ints], totals: list[list[int]], by_value: bool) -> ConversionTable:
    """Rates of every node and stage from what reached it; columns have shape (nodes + 1, stages)."""
    reached, value, short = columns
    base = value if by_value else reached
    known = ~((short > 0) & (reached - short < ENOUGH_WITH_HISTORY))
    with np.errstate(divide="ignore", invalid="ignore"):
        from_start = np.where(known & (base[:, :1] > 0), base / base[:, :1], np.nan)
        step = np.where(known[:, :-1] & (base[:, :-1] > 0), base[:, 1:] / base[:, :-1], np.nan)
    hidden = np.isnan(step) | by_value
    bounds = (np.where(hidden, np.nan, bound) for bound in wilson_bounds(reached[:, 1:], reached[:, :-1]))
    last = np.full((len(step), 1), np.nan)
    step, low, high = (np.hstack([rates, last]) for rates in (step, *bounds))
    return ConversionTable(stages, reached, value, short, step, low, high, from_start, totals, by_value)


def _stage_row(  # noqa: PLR0913 - one argument a column of the record
    stage: int, reached: int, value: int, short: int, step: float, low: float, high: float, from_start: float
) -> StageReach:
    return StageReach(
        stage,
        reached,
        value,
        short,
        step=None if isnan(step) else step,
        step_interval=None if isnan(low) else Interval(low, high),
        from_start=None if isnan(from_start) else from_start,
    )


def lacks_history(deals: int, without_history: int) -> bool:
    """Whether figures resting on these deals are None: some are short-form and fewer than 20 have history."""
    return without_history > 0 and deals - without_history < ENOUGH_WITH_HISTORY


def _totals_of(totals: list[int], by_value: bool) -> CohortTotals:
    created, won, lost, short, created_value, won_value, closed_won, closed_lost, closed_short, *values = totals
    of_created = ratio(won_value, created_value) if by_value else ratio(won, created)
    of_closed = ratio(values[0], sum(values)) if by_value else ratio(closed_won, closed_won + closed_lost)
    return CohortTotals(
        created=created,
        won=won,
        lost=lost,
        undecided=created - won - lost,
        without_history=short,
        win_rate_of_created=None if lacks_history(created, short) else of_created,
        closed_won=closed_won,
        closed_lost=closed_lost,
        win_rate_of_closed=None if lacks_history(closed_won + closed_lost, closed_short) else of_closed,
        created_value=created_value,
        won_value=won_value,
        closed_value=sum(values),
        closed_won_value=values[0],
    )
