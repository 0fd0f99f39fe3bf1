"""Conversion: how many deals of a cohort reached each stage, step by step and from the start."""

from dataclasses import dataclass
from math import isnan

import numpy as np

from wise_tally.core.book import Book, Flags, Standing
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.errors import CoreError
from wise_tally.core.ground import LOST, OPEN, WON
from wise_tally.core.lines import Filter, grouping, owner_groups, owner_kept, shown_nodes
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY, Interval, wilson_bounds
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
class ConversionGroup:
    """One node of the breakdown. `won`, `lost`, `undecided` are the cohort's; the closed ones have their own base."""

    node: int
    key: str | None
    name: str | None
    stages: tuple[StageReach, ...]
    created: int
    won: int
    lost: int
    undecided: int
    without_history: int
    win_rate_of_created: float | None
    closed_won: int
    closed_lost: int
    win_rate_of_closed: float | None


@dataclass(frozen=True)
class Cohort:
    """The deals of a process that the scope keeps, with what they reached. Arrays have shape (deals,).

    `furthest` is the place in `order` of the furthest open stage reached, -1 for none, `len(order)` for won deals.
    """

    at: Ints
    order: tuple[int, ...]
    furthest: Ints
    in_cohort: Flags
    closed_in_window: Flags


def cohort(book: Book, standing: Standing, period: Period, scope: Filter, options: ConversionOptions) -> Cohort:
    """The deals of `scope.process` as they stood, and which of them make the cohort of the period."""
    if scope.process == NONE:
        raise CoreError("Conversion counts one process at a time; choose a process.")
    order = book.ground.open_stages(scope.process)
    at = np.flatnonzero(owner_kept(book, standing, scope))
    reach = reach_of_revisions(book, scope.process)
    kind = standing.kind[at]
    furthest = np.where(kind == WON, len(order), reach[standing.row[at]])
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    closed_on = standing.closed_on[at]
    closed = (kind != OPEN) & (closed_on >= first) & (closed_on <= last)
    if options.basis == "decided":
        inside = closed
    else:
        day = (
            book.created_on[standing.deal[at]]
            if options.basis == "created"
            else _entered_on(book, standing, at, reach, options, order)
        )
        inside = (day >= first) & (day <= last)
    if options.decided_only:
        inside = inside & (kind != OPEN)
    return Cohort(at, order, furthest, inside, closed)


def reach_of_revisions(book: Book, process: int) -> Ints:
    """`_reach` of a process, computed once for a book."""
    key = ("reach", process)
    if key not in book.memo:
        book.memo[key] = _reach(book, process)
    return book.memo[key]


def _reach(book: Book, process: int) -> Ints:
    """Per revision the furthest place among the process's open stages (present order) that its deal had stood in.

    A short-form lost deal reached the stage it was lost from, else the first. -1 before any open stage.
    """
    place = np.full(len(book.ground.stages), NONE, dtype=np.int64)
    order = book.ground.open_stages(process)
    place[list(order)] = np.arange(len(order))
    rev = book.revisions
    own = place[rev.stage]
    short_lost = book.deals.short_form[rev.deal] & (book.ground.stage_kind[rev.stage] == LOST)
    lost_from = book.deals.lost_from[rev.deal[short_lost]]
    own[short_lost] = np.where(lost_from == NONE, 0, place[lost_from])
    # Deals are contiguous, so a rising base per deal keeps the running maximum inside each.
    width = len(order) + 1
    base = np.cumsum(np.r_[0, np.diff(rev.deal) != 0][: len(rev.deal)]) * width
    return np.maximum.accumulate(own + 1 + base) - base - 1


def first_shown(book: Book, order: tuple[int, ...], options: ConversionOptions) -> int:
    """Place in `order` of the first stage that gets a row; -1 where none does."""
    shown = (i for i, s in enumerate(order) if not book.ground.stages[s].retired and s not in options.leave_out)
    return next(shown, NONE)


def _entered_on(
    book: Book, standing: Standing, at: Ints, reach: Ints, options: ConversionOptions, order: tuple[int, ...]
) -> Ints:
    """Local day on which each deal first reached the first shown stage; 0 for never."""
    rev, start = book.revisions, max(first_shown(book, order, options), 0)
    there = (
        (rev.stage == order[start] if order else np.zeros(len(rev.deal), dtype=bool))
        if options.strict
        else reach >= start
    )
    rows = np.flatnonzero(there & (rev.effective_at < standing.cut))
    rows = rows[np.r_[True, np.diff(rev.deal[rows]) != 0][: len(rows)]]
    never = np.iinfo(np.int64).max
    moment = np.full(len(book.deals.key), never)
    moment[rev.deal[rows]] = rev.effective_at[rows]
    found = moment[standing.deal[at]]
    won_unseen = (standing.kind[at] == WON) & (found == never) & (not options.strict)
    found = np.where(won_unseen, standing.closed_at[at], found)
    days = np.zeros(len(at), dtype=np.int64)
    known = found != never
    days[known] = local_days(found[known], book.ground.time_zone)
    return days


def conversion(
    book: Book, standing: Standing, period: Period, scope: Filter, options: ConversionOptions, by: str = "company"
) -> tuple[ConversionGroup, ...]:
    """Reached, step and from start per stage for each node of `by`, the node of a deal being its owner's on the day.

    step = reached(next) ÷ reached(this); from start = reached(this) ÷ reached(first shown); the won stage is last.
    Rates are None where a row counts short-form deals and fewer than 20 with history. Source: common practice.
    """
    found = cohort(book, standing, period, scope, options)
    group = grouping(book.ground, by, standing.as_of)
    nodes = len(group.keys)
    direct = owner_groups(book, standing, standing.owner[found.at], found.at, by)
    counter = _Counter(book, standing, found, np.where(direct == NONE, nodes, direct), nodes)
    tables = counter.tables(options)
    if group.tree is not None:
        tables = [np.vstack([group.tree.roll_up(table[:nodes]), table[nodes:]]) for table in tables]
    holding = np.any([table.any(axis=1) for table in tables], axis=0)
    shown = [i for i, s in enumerate(found.order) if not book.ground.stages[s].retired and s not in options.leave_out]
    stages = (*(found.order[i] for i in shown), book.ground.won_stage(scope.process))
    columns = [*shown, len(found.order)]
    rows_of = _stage_rows(stages, (tables[0][:, columns], tables[1][:, columns], tables[2][:, columns]), options)
    result = []
    for node in shown_nodes(book.ground, scope, group, standing.as_of, holding):
        rows, totals = rows_of[node], tables[3][node]
        key, name = (None, None) if node == NONE else (group.keys[node], group.names[node])
        result.append(_group(node, key, name, rows, totals, options.by_value))
    return tuple(result)


class _Counter:
    """Counts and values of a cohort per node and stage; the last node is that of deals without the attribute."""

    def __init__(self, book: Book, standing: Standing, found: Cohort, node: Ints, nodes: int) -> None:
        self.book, self.standing, self.found, self.node, self.nodes = book, standing, found, node, nodes
        self.amount = standing.amount_minor[found.at]
        self.short = book.deals.short_form[standing.deal[found.at]]
        self.kind = standing.kind[found.at]

    def tables(self, options: ConversionOptions) -> list[Ints]:
        """Reached deals, value, short-form deals, and totals, each of shape (nodes + 1, columns)."""
        inside = self.found.in_cohort
        short = inside & self.short
        if options.strict:
            stood = self._stood_in()
            return [
                self._per_place(stood, inside, None),
                self._per_place(stood, inside, self.amount),
                self._per_place(stood, short, None),
                self._totals(),
            ]
        return [
            self._reached(inside, None),
            self._reached(inside, self.amount),
            self._reached(short, None),
            self._totals(),
        ]

    def _reached(self, keep: Flags, weights: Ints | None) -> Ints:
        width = len(self.found.order) + 2
        cell = self.node[keep] * width + self.found.furthest[keep] + 1
        table = self._sum(cell, None if weights is None else weights[keep], width)
        return np.cumsum(table[:, ::-1], axis=1)[:, ::-1][:, 1:]

    def _stood_in(self) -> Flags:
        rev, order = self.book.revisions, self.found.order
        place = np.full(len(self.book.ground.stages), NONE, dtype=np.int64)
        place[list(order)] = np.arange(len(order))
        rows = np.flatnonzero((rev.effective_at < self.standing.cut) & (place[rev.stage] != NONE))
        stood = np.zeros((len(self.book.deals.key), len(order) + 1), dtype=bool)
        stood[rev.deal[rows], place[rev.stage[rows]]] = True
        stood = stood[self.standing.deal[self.found.at]]
        stood[:, -1] = self.kind == WON
        return stood

    def _per_place(self, stood: Flags, keep: Flags, weights: Ints | None) -> Ints:
        columns = []
        for place in range(stood.shape[1]):
            chosen = keep & stood[:, place]
            columns.append(self._sum(self.node[chosen], None if weights is None else weights[chosen], 1))
        return np.hstack(columns)

    def _totals(self) -> Ints:
        """Columns: created, won, lost, short; value of created and won; closed won, lost, short; their values."""
        inside, closed = self.found.in_cohort, self.found.closed_in_window
        won, lost = self.kind == WON, self.kind == LOST
        masks = [inside, inside & won, inside & lost, inside & self.short]
        closed_masks = [closed & won, closed & lost, closed & self.short]
        columns = [self._sum(self.node[mask], None, 1) for mask in masks]
        columns += [self._sum(self.node[mask], self.amount[mask], 1) for mask in masks[:2]]
        columns += [self._sum(self.node[mask], None, 1) for mask in closed_masks]
        columns += [self._sum(self.node[mask], self.amount[mask], 1) for mask in closed_masks[:2]]
        return np.hstack(columns)

    def _sum(self, cell: Ints, weights: Ints | None, width: int) -> Ints:
        size = (self.nodes + 1) * width
        flat = np.bincount(cell, minlength=size) if weights is None else sum_by_group(weights, cell, size)
        return flat.reshape(self.nodes + 1, width).astype(np.int64)


def _stage_rows(
    stages: tuple[int, ...], columns: tuple[Ints, Ints, Ints], options: ConversionOptions
) -> list[tuple[StageReach, ...]]:
    """The stages of every node; columns have shape (nodes + 1, stages)."""
    reached, value, short = columns
    base = value if options.by_value else reached
    known = ~((short > 0) & (reached - short < ENOUGH_WITH_HISTORY))
    with np.errstate(divide="ignore", invalid="ignore"):
        from_start = np.where(known & (base[:, :1] > 0), base / base[:, :1], np.nan)
        step = np.where(known[:, :-1] & (base[:, :-1] > 0), base[:, 1:] / base[:, :-1], np.nan)
    low, high = wilson_bounds(reached[:, 1:], reached[:, :-1])
    hidden = np.isnan(step) | options.by_value
    bounds = np.where(hidden, np.nan, low), np.where(hidden, np.nan, high)
    last = np.full((len(step), 1), np.nan)
    tables = [np.hstack([t, last]).tolist() for t in (step, *bounds)]
    tables = [reached.tolist(), value.tolist(), short.tolist(), *tables, from_start.tolist()]
    return [
        tuple(_stage_row(*cells) for cells in zip(stages, *node, strict=True)) for node in zip(*tables, strict=True)
    ]


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


def _group(
    node: int, key: str | None, name: str | None, stages: tuple[StageReach, ...], totals: Ints, by_value: bool
) -> ConversionGroup:
    created, won, lost, short, created_value, won_value, closed_won, closed_lost, closed_short, *values = map(
        int, totals
    )
    of_created = ratio(won_value, created_value) if by_value else ratio(won, created)
    of_closed = ratio(values[0], sum(values)) if by_value else ratio(closed_won, closed_won + closed_lost)
    return ConversionGroup(
        node=node,
        key=key,
        name=name,
        stages=stages,
        created=created,
        won=won,
        lost=lost,
        undecided=created - won - lost,
        without_history=short,
        win_rate_of_created=None if lacks_history(created, short) else of_created,
        closed_won=closed_won,
        closed_lost=closed_lost,
        win_rate_of_closed=None if lacks_history(closed_won + closed_lost, closed_short) else of_closed,
    )
