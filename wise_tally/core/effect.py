"""The effect of other stage rules on the book as it stands: what would move before anything is saved."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.forecast import forecast_of_periods
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import OPEN, ReferenceData, Stage, StageRule


@dataclass(frozen=True)
class StageEffect:
    """Open deals of one stage, how many change, and their weighted money of counted categories in minor units."""

    stage: int
    deals_open: int
    deals_moved: int
    weighted_before: int
    weighted_after: int

    @property
    def change(self) -> int:
        """Weighted after − before."""
        return self.weighted_after - self.weighted_before


@dataclass(frozen=True)
class Effect:
    """The effect per stage, in the order asked for, and the sum over them."""

    stages: tuple[StageEffect, ...]

    @property
    def deals_moved(self) -> int:
        """Open deals whose probability or category changes."""
        return sum(row.deals_moved for row in self.stages)

    @property
    def weighted_before(self) -> int:
        """Weighted money as it is."""
        return sum(row.weighted_before for row in self.stages)

    @property
    def weighted_after(self) -> int:
        """Weighted money as it would be."""
        return sum(row.weighted_after for row in self.stages)

    @property
    def change(self) -> int:
        """After − before."""
        return self.weighted_after - self.weighted_before


@dataclass(frozen=True)
class StageChange:
    """What a stage shall be."""

    probability_bp: int
    category: int
    typical_days: float | None
    own_probability: bool


def effect_of(book: Book, snapshot: BookAsOf, changes: Mapping[int, StageChange]) -> Effect:
    """Per stage the open deals and weighted money before and after, each deal rounded by itself.

    Source: the forecast's own definition of weighted, computed twice on the same deals.
    """
    other = replace(book, reference=with_changes(book.reference, changes))
    after = other.states(snapshot.as_of, snapshot.row)
    counted = np.array([*(category.counted for category in book.reference.categories), False], dtype=bool)
    moved = (snapshot.probability_bp != after.probability_bp) | (snapshot.category != after.category)
    rows = []
    for stage in changes:
        inside = (snapshot.stage == stage) & (snapshot.kind == OPEN)
        pair = (_weighted(state, inside, counted) for state in (snapshot, after))
        rows.append(StageEffect(stage, int(inside.sum()), int((inside & moved).sum()), *pair))
    return Effect(tuple(rows))


def _weighted(snapshot: BookAsOf, inside: Flags, counted: Flags) -> int:
    weighted: Ints = snapshot.weighted_minor[inside & counted[snapshot.category]]
    return int(weighted.sum())


def with_changes(reference: ReferenceData, changes: Mapping[int, StageChange]) -> ReferenceData:
    """The reference data with these stages as they shall be, from ever on."""

    def changed(stage: Stage, change: StageChange) -> Stage:
        base = StageRule(stage.base.effective_at, change.probability_bp, change.category, change.typical_days)
        return replace(stage, base=base, rules=(), own_probability=change.own_probability)

    stages = tuple(changed(s, changes[i]) if i in changes else s for i, s in enumerate(reference.stages))
    return replace(reference, stages=stages)


@dataclass(frozen=True)
class QuarterMoved:
    """A fiscal quarter whose weighted forecast of the whole company would be another, in minor units."""

    period: Period
    before_minor: int
    after_minor: int


def quarters_moved(book: Book, before: BookAsOf, after: BookAsOf) -> tuple[QuarterMoved, ...]:
    """The quarters in which open deals are expected and whose weighted forecast differs between two snapshots, in order."""
    due = before.expected_close[(before.kind == OPEN) & (before.expected_close != NO_DAY)]
    quarters = {book.reference.fiscal.containing(date.fromordinal(day), "quarter") for day in np.unique(due).tolist()}
    periods = sorted(quarters, key=lambda period: period.starts_on)
    sides = [forecast_of_periods(book, snapshot, periods, Filter(), "company") for snapshot in (before, after)]
    pairs = zip(periods, *([rows[0].weighted for rows in side] for side in sides), strict=True)
    return tuple(QuarterMoved(*pair) for pair in pairs if pair[1] != pair[2])
