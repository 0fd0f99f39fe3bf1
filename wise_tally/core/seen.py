"""Set and seen: stage probabilities as set beside the win rates of deals that reached the stage."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, Standing
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.conversion import lacks_history, reach_of_revisions
from wise_tally.core.ground import OPEN, WON
from wise_tally.core.grouping import grouping
from wise_tally.core.lines import Filter, owner_kept, owner_rows, rows_inside, shown_nodes
from wise_tally.core.money import WHOLE_BP, Ints, divide_half_even
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY, Interval, wilson
from wise_tally.core.trees import NONE

NEVER = np.iinfo(np.int64).max


@dataclass(frozen=True)
class SeenRate:
    """A stage's set probability (0 to 1), decided deals that first reached it in the look-back, the share won."""

    stage: int
    set_rate: float
    decided: int
    won: int
    without_history: int
    seen: float | None
    interval: Interval | None

    @property
    def seen_bp(self) -> int | None:
        """The seen rate in basis points, rounded half to even; None where there is none."""
        return None if self.seen is None else divide_half_even(self.won * WHOLE_BP, self.decided)

    @property
    def off(self) -> bool:
        """Whether the set probability lies outside the interval of at least 20 deals."""
        if self.interval is None or self.decided < ENOUGH_WITH_HISTORY:
            return False
        return not self.interval.low <= self.set_rate <= self.interval.high


@dataclass(frozen=True)
class SeenGroup:
    """One node of the breakdown with a row a stage."""

    node: int
    key: str | None
    name: str | None
    stages: tuple[SeenRate, ...]


def first_reached(book: Book, standing: Standing, process: int, place: int) -> Ints:
    """The moment each deal of the standing first reached a stage (place among the process's open stages).

    A skipped stage is reached when the later one is entered, every stage on entering won; NEVER for not reached.
    """
    rev = book.revisions
    rows = np.flatnonzero((reach_of_revisions(book, process) >= place) & (rev.effective_at < standing.cut))
    rows = rows[np.r_[True, np.diff(rev.deal[rows]) != 0][: len(rows)]]
    moment = np.full(len(book.deals.key), NEVER)
    moment[rev.deal[rows]] = rev.effective_at[rows]
    won_at = np.where(standing.kind == WON, standing.closed_at, NEVER)
    return np.minimum(moment[standing.deal], won_at)


def set_and_seen(
    book: Book, standing: Standing, period: Period, scope: Filter, by: str = "company"
) -> tuple[SeenGroup, ...]:
    """Per node and open stage the observed win rate with its Wilson interval; a deal's node is its owner's on the day."""
    group = grouping(book, by, standing.as_of)
    nodes = len(group.keys)
    rows, node = owner_rows(book, standing, standing.owner, np.arange(len(standing.deal)), by)
    node = np.where(node == NONE, nodes, node)
    kept = owner_kept(book, standing, scope) & (standing.kind != OPEN)
    short = book.deals.short_form[standing.deal]
    rules = book.ground.rules_on(standing.as_of)
    tables: dict[int, Ints] = {}
    for process in book.ground.processes_by_key if scope.process == NONE else (scope.process,):
        order = book.ground.open_stages(process)
        for place, stage in enumerate(order):
            if book.ground.stages[stage].retired:
                continue
            inside = kept & (book.deals.process[standing.deal] == process)
            inside &= _in_window(book, first_reached(book, standing, process, place), period)
            masks = (inside, inside & (standing.kind == WON), inside & short)
            counts = np.stack([np.bincount(node[mask[rows]], minlength=nodes + 1) for mask in masks], axis=1)
            if group.tree is not None:
                counts[:nodes] = group.tree.roll_up(counts[:nodes])
            tables[stage] = counts
    holding = (
        np.any([table.any(axis=1) for table in tables.values()], axis=0) if tables else np.zeros(nodes + 1, dtype=bool)
    )
    result = []
    for index in shown_nodes(book.ground, scope, group, standing.as_of, holding):
        rates = tuple(
            _rate(stage, rules[stage].probability_bp, table[index].tolist()) for stage, table in tables.items()
        )
        key, name = (None, None) if index == NONE else (group.keys[index], group.names[index])
        result.append(SeenGroup(index, key, name, rates))
    return tuple(result)


def decided_in(book: Book, standing: Standing, period: Period, scope: Filter, stage: int, row: tuple[str, int]) -> Ints:
    """Places of the decided deals of a breakdown's row that first reached a stage in the period, as `set_and_seen` counts."""
    process = book.ground.stages[stage].process
    place = book.ground.open_stages(process).index(stage)
    inside = owner_kept(book, standing, scope) & (standing.kind != OPEN)
    inside &= book.deals.process[standing.deal] == process
    inside &= _in_window(book, first_reached(book, standing, process, place), period)
    at = np.flatnonzero(inside)
    return np.asarray(at[rows_inside(book, standing, standing.owner[at], at, *row)])


def _in_window(book: Book, moments: Ints, period: Period) -> Ints:
    inside = np.zeros(len(moments), dtype=bool)
    known = moments != NEVER
    days = local_days(moments[known], book.ground.time_zone)
    inside[known] = (days >= period.starts_on.toordinal()) & (days <= period.ends_on.toordinal())
    return inside


def _rate(stage: int, probability_bp: int, counts: list[int]) -> SeenRate:
    decided, won, short = counts
    known = decided > 0 and not lacks_history(decided, short)
    return SeenRate(
        stage=stage,
        set_rate=probability_bp / WHOLE_BP,
        decided=decided,
        won=won,
        without_history=short,
        seen=won / decided if known else None,
        interval=wilson(won, decided) if known else None,
    )
