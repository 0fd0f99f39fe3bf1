"""Set and seen: stage probabilities as set beside the win rates of deals that reached the stage."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import grouping
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.conversion import lacks_history
from wise_tally.core.lines import Filter, owner_filtered, owner_rows, rows_inside, shown_nodes
from wise_tally.core.money import WHOLE_BP, Ints, divide_half_even
from wise_tally.core.reach import NEVER, first_win, reached_days
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY, Interval, wilson
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class ObservedRate:
    """A stage's set probability (0 to 1), closed deals that first reached it in the look-back, the share won."""

    stage: int
    set_rate: float
    decided: int
    won: int
    without_history: int
    observed: float | None
    interval: Interval | None

    @property
    def observed_bp(self) -> int | None:
        """The actual win rate in basis points, rounded half to even; None where there is none."""
        return None if self.observed is None else divide_half_even(self.won * WHOLE_BP, self.decided)

    @property
    def off(self) -> bool:
        """Whether the set probability lies outside the interval of at least 20 deals."""
        if self.interval is None or self.decided < ENOUGH_WITH_HISTORY:
            return False
        return not self.interval.low <= self.set_rate <= self.interval.high


@dataclass(frozen=True)
class ObservedGroup:
    """One node of the breakdown with a row a stage."""

    node: int
    key: str | None
    name: str | None
    stages: tuple[ObservedRate, ...]


def first_reached_on(book: Book, snapshot: BookAsOf, process: int, index: int, rows: Ints) -> Ints:
    """The day ordinal on which deals of the snapshot (places `rows`) first reached a stage (place among the open stages).

    A skipped stage is reached when the later one is entered; a won deal reached every stage at its first win at the
    latest. NEVER for not reached.
    """
    day = reached_days(book, process)[index][snapshot.deal[rows]]
    day[day > snapshot.as_of.toordinal()] = NEVER
    is_won = snapshot.kind[rows] == WON
    won_on = local_days(first_win(book)[0][snapshot.deal[rows[is_won]]], book.reference.time_zone)
    day[is_won] = np.minimum(day[is_won], won_on)
    return day


def probability_check(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str = "company"
) -> tuple[ObservedGroup, ...]:
    """Per node and open stage the observed win rate with its Wilson interval; a deal's node is its owner's on the day."""
    group = grouping(book, by, snapshot.as_of)
    nodes = len(group.keys)
    decided = _decided(book, snapshot, period, scope)
    rules = book.reference.rules_on(snapshot.as_of)
    tables: dict[int, Ints] = {}
    for process in book.reference.processes_by_key if scope.process == NONE else (scope.process,):
        decided_rows = decided[book.deals.process[snapshot.deal[decided]] == process]
        rows, node = owner_rows(book, snapshot, snapshot.owner[decided_rows], decided_rows, by)
        node = np.where(node == NONE, nodes, node)
        won, short = snapshot.kind[decided_rows] == WON, book.deals.short_form[snapshot.deal[decided_rows]]
        for position, stage in enumerate(book.reference.open_stages(process)):
            if book.reference.stages[stage].retired:
                continue
            inside = _within(first_reached_on(book, snapshot, process, position, decided_rows), period)
            masks = (inside, inside & won, inside & short)
            counts = np.stack([np.bincount(node[mask[rows]], minlength=nodes + 1) for mask in masks], axis=1)
            if group.tree is not None:
                counts[:nodes] = group.tree.roll_up(counts[:nodes])
            tables[stage] = counts
    holding = (
        np.any([table.any(axis=1) for table in tables.values()], axis=0) if tables else np.zeros(nodes + 1, dtype=bool)
    )
    result = []
    for index in shown_nodes(book.reference, scope, group, snapshot.as_of, holding):
        rates = tuple(
            _rate(stage, rules[stage].probability_bp, table[index].tolist()) for stage, table in tables.items()
        )
        key, name = (None, None) if index == NONE else (group.keys[index], group.names[index])
        result.append(ObservedGroup(index, key, name, rates))
    return tuple(result)


def decided_in(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, stage: int, row: tuple[str, int]) -> Ints:
    """Places of the closed deals of a breakdown's row that first reached a stage in the period, as `probability_check` counts."""
    process = book.reference.stages[stage].process
    index = book.reference.open_stages(process).index(stage)
    rows = _decided(book, snapshot, period, scope)
    rows = rows[book.deals.process[snapshot.deal[rows]] == process]
    rows = rows[_within(first_reached_on(book, snapshot, process, index, rows), period)]
    return np.asarray(rows[rows_inside(book, snapshot, snapshot.owner[rows], rows, *row)])


def _decided(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> Ints:
    """Places of the closed deals of the scope that can have reached a stage in the period: none closed before it."""
    late = (snapshot.kind != OPEN) & (snapshot.closed_on >= period.starts_on.toordinal())
    return np.flatnonzero(owner_filtered(book, snapshot, scope) & late)


def _within(day: Ints, period: Period) -> Flags:
    return (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())


def _rate(stage: int, probability_bp: int, counts: list[int]) -> ObservedRate:
    decided, won, short = counts
    known = decided > 0 and not lacks_history(decided, short)
    return ObservedRate(
        stage=stage,
        set_rate=probability_bp / WHOLE_BP,
        decided=decided,
        won=won,
        without_history=short,
        observed=won / decided if known else None,
        interval=wilson(won, decided) if known else None,
    )
