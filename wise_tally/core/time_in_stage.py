"""Time in stage and days to win."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import Grouping, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.conversion import lacks_history
from wise_tally.core.derived import Grows, derived
from wise_tally.core.lines import Filter, filtered_deals, owner_rows, people_inside, shown_nodes
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import WON
from wise_tally.core.statistics import DAY_SECONDS, Curve, Floats, kaplan_meier
from wise_tally.core.trees import NONE

DURATION_BITS = 35


@dataclass(frozen=True)
class StageTime:
    """Stays of one stage in days. `overstaying` is None where the stage has no typical days.

    `running_ages` are those of the stays that still run, in days, rising.
    """

    stage: int
    stays: int
    completed: int
    mean: float | None
    median: float | None
    km_median: float | None
    km_p75: float | None
    running: int
    running_mean_age: float | None
    overstaying: int | None
    typical_days: float | None
    running_ages: Floats
    curve: Curve | None = None


@dataclass(frozen=True)
class StageTimeGroup:
    """One node of the breakdown, and whether any stay counts there; its rows, one a stage, are worked out when asked for."""

    node: int
    key: str | None
    name: str | None
    has_stays: bool
    rows: Callable[[], tuple[StageTime, ...]] = field(repr=False, compare=False)

    @cached_property
    def stages(self) -> tuple[StageTime, ...]:
        """A row a stage."""
        return self.rows()


@dataclass(frozen=True)
class StayLines:
    """Stays that the scope keeps. `seconds` until the stay ended or the as-of midnight."""

    snapshot: BookAsOf
    deal: Ints
    stage: Ints
    owner: Ints
    seconds: Ints
    ended: Flags
    in_window: Flags

    def take(self, rows: Ints) -> "StayLines":
        """The stays of these rows; one may come several times."""
        if len(rows) == len(self.deal) and (rows == np.arange(len(rows))).all():
            return self
        names = ("deal", "stage", "owner", "seconds", "ended", "in_window")
        return StayLines(self.snapshot, *(getattr(self, name)[rows] for name in names))

    @cached_property
    def rows(self) -> Ints:
        """Place of each stay's deal in the snapshot, whose deals ascend."""
        return np.searchsorted(self.snapshot.deal, self.deal)


def stay_lines(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> StayLines:
    """Stays in open stages begun by the as-of day, by the owner at the stay's start."""
    stays = book.open_stays
    keep = stays.entered_at < snapshot.cut
    if scope != Filter():
        of_deal = np.zeros(len(book.deals.key), dtype=bool)
        of_deal[snapshot.deal] = filtered_deals(book, snapshot, scope)
        keep &= of_deal[stays.deal]
    rows: Any = slice(None) if keep.all() else np.flatnonzero(keep)
    if scope.of_people:
        rows = np.arange(len(stays.deal))[rows]
        deal_rows = np.searchsorted(snapshot.deal, stays.deal[rows])
        team = book.reference.teams_of(stays.owner[rows], snapshot.membership_day[deal_rows])
        rows = rows[people_inside(book.reference, scope, snapshot.as_of, stays.owner[rows], team)]
    entered_on, left_at, entered_at = book.stay_entered_on[rows], stays.left_at[rows], stays.entered_at[rows]
    return StayLines(
        snapshot=snapshot,
        deal=stays.deal[rows],
        stage=stays.stage[rows],
        owner=stays.owner[rows],
        seconds=np.minimum(left_at, snapshot.cut) - entered_at,
        ended=left_at < snapshot.cut,
        in_window=(entered_on >= period.starts_on.toordinal()) & (entered_on <= period.ends_on.toordinal()),
    )


def summed(lines: StayLines) -> StayLines:
    """One line a deal and stage: its stays there added up, entered with the first, ended where none runs any more."""
    # Stays come deal by deal as they were entered: a stable sort puts the first entry of each cell first.
    cell = lines.deal * (int(lines.stage.max(initial=0)) + 1) + lines.stage
    order = np.argsort(cell, kind="stable")
    cell = cell[order]
    indices = np.flatnonzero(cell[1:] == cell[:-1]) + 1
    again, first = order[indices], order[np.searchsorted(cell, cell[indices])]
    seconds, ended, once = lines.seconds.copy(), lines.ended.copy(), np.ones(len(cell), dtype=bool)
    np.add.at(seconds, first, lines.seconds[again])
    np.logical_and.at(ended, first, lines.ended[again])
    once[again] = False
    return replace(lines, seconds=seconds, ended=ended).take(np.flatnonzero(once))


def _by_node(book: Book, lines: StayLines, by: str, nodes: int) -> tuple[StayLines, Ints]:
    """The stays with the node of each, the last one for those without; by product group one in each of the deal's groups."""
    if by == "company":
        return lines, np.zeros(len(lines.deal), dtype=np.int64)
    if by == "person":
        return lines, lines.owner
    rows, node = owner_rows(book, lines.snapshot, lines.owner, lines.rows, by)
    return lines.take(rows), np.where(node == NONE, nodes, node)


def time_in_stage(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str = "company", per_deal: bool = False
) -> tuple[StageTimeGroup, ...]:
    """Per node and open stage: stays entered in the window with Kaplan–Meier quantiles, and all running stays.

    Every exit is an event; stays still running on the as-of day are right-censored; days are seconds ÷ 86 400.
    `per_deal` adds up a deal's stays in a stage first.
    """
    return times_of(book, stay_lines(book, snapshot, period, scope), scope, by, per_deal)


def times_of(book: Book, stays: StayLines, scope: Filter, by: str, per_deal: bool) -> tuple[StageTimeGroup, ...]:
    """Time in stage of stays that are at hand."""
    snapshot = stays.snapshot
    group = grouping(book, by, snapshot.as_of)
    lines, node_of = _by_node(book, summed(stays) if per_deal else stays, by, len(group.keys))
    table = _StayTable(lines, node_of, group, len(book.reference.stages))
    typical = [rule.typical_days for rule in book.reference.rules_on(snapshot.as_of)]
    running = _Running(lines, node_of, group, typical)
    counted, stages = lines.in_window | ~lines.ended, _stages(book, scope)
    holding = _holding(group, node_of[counted])
    has_stays = _holding(group, node_of[counted & np.isin(lines.stage, stages)])

    def rows(node: int) -> tuple[StageTime, ...]:
        return tuple(_stage_time(table, running, node, stage, typical[stage]) for stage in stages)

    result = []
    for node in shown_nodes(book.reference, scope, group, snapshot.as_of, holding):
        key, name = (None, None) if node == NONE else (group.keys[node], group.names[node])
        result.append(StageTimeGroup(node, key, name, bool(has_stays[node]), partial(rows, node)))
    return tuple(result)


def _holding(group: Grouping, nodes: Ints) -> Flags:
    """Which nodes have one of these or stand above one, the last for those without; shape (nodes + 1,)."""
    holding = np.zeros(len(group.keys) + 1, dtype=bool)
    for node in np.flatnonzero(np.bincount(nodes, minlength=len(holding))).tolist():
        path = group.tree.paths[node] if group.tree is not None and node < len(group.keys) else (node,)
        holding[list(path)] = True
    return holding


def deals_with_stays(lines: StayLines) -> int:
    """Number of deals whose stays the page counts: entered in the window, or running."""
    counts = np.zeros(int(lines.deal.max(initial=0)) + 1, dtype=bool)
    counts[lines.deal[lines.in_window | ~lines.ended]] = True
    return int(counts.sum())


def _stages(book: Book, scope: Filter) -> list[int]:
    processes = book.reference.processes_by_key if scope.process == NONE else (scope.process,)
    return [stage for process in processes for stage in book.reference.open_stages(process, with_retired=False)]


class _StayTable:
    """Stays of the window sorted once by node, stage and duration, one packed integer each."""

    def __init__(self, lines: StayLines, node_of: Ints, group: Grouping, stages: int) -> None:
        self.stages, self.group = stages, group
        inside = lines.in_window
        code = node_of[inside] * stages + lines.stage[inside]
        packed = np.sort((((code << DURATION_BITS) | lines.seconds[inside]) << 1) | ~lines.ended[inside])
        self.ended = (packed & 1) == 0
        self.seconds = (packed >> 1) & ((1 << DURATION_BITS) - 1)
        self.bounds = np.searchsorted(packed >> (DURATION_BITS + 1), np.arange((len(group.keys) + 1) * stages + 1))

    def of(self, node: int, stage: int) -> tuple[Ints, Flags]:
        """Durations and ends of a node's stays in a stage, sorted; those of nodes below included."""
        index = len(self.group.keys) if node == NONE else node
        if self.group.tree is None or node == NONE:
            return self._slice(index, stage)
        parts = [self._slice(below, stage) for below in self.group.tree.below(node)]
        packed = np.sort(np.concatenate([(seconds << 1) | ~ended for seconds, ended in parts]))
        return packed >> 1, (packed & 1) == 0

    def _slice(self, index: int, stage: int) -> tuple[Ints, Flags]:
        code = index * self.stages + stage
        chosen = slice(self.bounds[code], self.bounds[code + 1])
        return self.seconds[chosen], self.ended[chosen]


class _Running:
    """Number, summed age in seconds, overstaying and each age of running stays per node and stage."""

    def __init__(self, lines: StayLines, node_of: Ints, group: Grouping, typical: list[float | None]) -> None:
        nodes, self.stages, self.group = len(group.keys), len(typical), group
        still = ~lines.ended
        cell, age = node_of[still] * self.stages + lines.stage[still], lines.seconds[still]
        limit = np.array([np.inf if days is None else days * DAY_SECONDS for days in typical])
        over = age > limit[lines.stage[still]]
        size = (nodes + 1) * self.stages
        columns = [
            np.bincount(cell, minlength=size),
            np.bincount(cell, age, size),
            np.bincount(cell[over], minlength=size),
        ]
        self.count, self.age, self.over = (
            self._rolled(column.astype(np.int64).reshape(nodes + 1, self.stages), group) for column in columns
        )
        packed = np.sort((cell << DURATION_BITS) | age)
        self.each = (packed & ((1 << DURATION_BITS) - 1)) / DAY_SECONDS
        self.bounds = np.searchsorted(packed >> DURATION_BITS, np.arange(size + 1))

    def ages(self, node: int, stage: int) -> Floats:
        """Ages in days of a node's running stays in a stage, rising; those of nodes below included."""
        nodes = {len(self.group.keys)} if node == NONE else self.group.tree.below(node) if self.group.tree else {node}
        cells = [index * self.stages + stage for index in nodes]
        parts = [self.each[self.bounds[cell] : self.bounds[cell + 1]] for cell in cells]
        return parts[0] if len(parts) == 1 else np.sort(np.concatenate(parts))

    @staticmethod
    def _rolled(table: Ints, group: Grouping) -> Ints:
        if group.tree is not None:
            table[:-1] = group.tree.roll_up(table[:-1])
        return table


def _stage_time(table: _StayTable, running: _Running, node: int, stage: int, typical: float | None) -> StageTime:
    seconds, ended = table.of(node, stage)
    done = seconds[ended]
    curve = kaplan_meier(seconds, ended) if len(seconds) else None
    count = int(running.count[node, stage])
    return StageTime(
        stage=stage,
        stays=len(seconds),
        completed=len(done),
        mean=float(done.sum()) / len(done) / DAY_SECONDS if len(done) else None,
        median=_median_of_sorted(done) / DAY_SECONDS if len(done) else None,
        km_median=curve.quantile(0.5) if curve else None,
        km_p75=curve.quantile(0.75) if curve else None,
        running=count,
        running_mean_age=int(running.age[node, stage]) / count / DAY_SECONDS if count else None,
        overstaying=None if typical is None else int(running.over[node, stage]),
        typical_days=typical,
        running_ages=running.ages(node, stage),
        curve=curve,
    )


def _median_of_sorted(seconds: Ints) -> float:
    middle = len(seconds) // 2
    return (int(seconds[(len(seconds) - 1) // 2]) + int(seconds[middle])) / 2


@dataclass(frozen=True)
class DaysToWin:
    """Deals won in the window by the owner at the closing; mean and median days from creation to winning."""

    node: int
    key: str | None
    name: str | None
    deals: int
    without_history: int
    mean: float | None
    median: float | None


def days_to_win(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str = "company"
) -> tuple[DaysToWin, ...]:
    """Days from `created_at` to the entry of the present won stage. None under ruling on short-form deals."""
    won_rows, owner, days = won_in(book, snapshot, period, scope)
    group = grouping(book, by, snapshot.as_of)
    nodes = len(group.keys)
    indices, node = owner_rows(book, snapshot, owner, won_rows, by)
    node = np.where(node == NONE, nodes, node)
    order = np.argsort(node, kind="stable")
    won_rows, days = won_rows[indices][order], days[indices][order]
    short = book.deals.short_form[snapshot.deal[won_rows]]
    bounds = np.searchsorted(node[order], np.arange(nodes + 2))
    rows = []
    for index in shown_nodes(book.reference, scope, group, snapshot.as_of, np.diff(bounds) > 0):
        below = [nodes] if index == NONE else list(group.tree.below(index)) if group.tree else [index]
        parts = [slice(bounds[place], bounds[place + 1]) for place in below]
        spent = np.concatenate([days[part] for part in parts])
        lacking = sum(int(short[part].sum()) for part in parts)
        known = len(spent) > 0 and not lacks_history(len(spent), lacking)
        rows.append(
            DaysToWin(
                node=index,
                key=None if index == NONE else group.keys[index],
                name=None if index == NONE else group.names[index],
                deals=len(spent),
                without_history=lacking,
                mean=float(spent.mean()) if known else None,
                median=float(np.median(spent)) if known else None,
            )
        )
    return tuple(rows)


@derived(Grows.CARRIED)
def won_deals(snapshot: BookAsOf) -> Ints:
    """Places of the deals that are won."""
    return np.flatnonzero(snapshot.kind == WON)


def won_in(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> tuple[Ints, Ints, np.ndarray]:
    """Deals won in the period: their row of the snapshot, the owner at the closing, and days to win."""
    won = won_deals(snapshot)
    closed_on = snapshot.closed_on[won]
    rows = won[(closed_on >= period.starts_on.toordinal()) & (closed_on <= period.ends_on.toordinal())]
    rows = rows[filtered_deals(book, snapshot, scope)[rows]]
    owner = book.revisions.owner[book.entered_row(snapshot.row[rows])]
    if scope.of_people:
        team = book.reference.teams_of(owner, snapshot.membership_day[rows])
        keep = people_inside(book.reference, scope, snapshot.as_of, owner, team)
        rows, owner = rows[keep], owner[keep]
    days = (snapshot.closed_at[rows] - book.deals.created_at[snapshot.deal[rows]]) / DAY_SECONDS
    return rows, owner, days
