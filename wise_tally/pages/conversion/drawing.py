"""Rows to draw: passing bars of falling length, strips of time."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import zip_longest
from math import ceil

import numpy as np

from wise_tally.core.conversion import ConversionGroup, StageReach
from wise_tally.core.drop_off import Loss
from wise_tally.core.statistics import Interval
from wise_tally.core.time_in_stage import StageTime, StageTimeGroup
from wise_tally.domain.formats import count
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.ink import share
from wise_tally.web.ticks import round_ticks


@dataclass(frozen=True)
class PassingRow:
    """A stage: its bar in parts (ink, where it begins, how wide it is), and what happens before the next."""

    key: str
    name: str
    is_won: bool
    parts: tuple[tuple[str, str, str], ...]
    reached: int
    value: int
    from_start: float | None
    step: float | None
    interval: Interval | None
    loss: Loss | None
    next_name: str


def passing_rows(line: FilterLine, whole: ConversionGroup, lost: tuple[Loss, ...], by_value: bool) -> list[PassingRow]:
    """One row a stage, each with what was lost or stayed undecided before the next."""
    stages, rows = line.book.reference.stages, whole.stages
    largest = max([1, *(row.value if by_value else row.reached for row in rows)])
    shown = []
    for row, loss, following in zip_longest(rows, lost, rows[1:]):
        shown.append(
            PassingRow(
                key=stages[row.stage].key,
                name=stages[row.stage].name,
                is_won=following is None,
                parts=_parts(row, loss, largest, by_value),
                reached=row.reached,
                value=row.value,
                from_start=row.from_start,
                step=row.step,
                interval=row.step_interval,
                loss=loss,
                next_name=stages[following.stage].name if following else "",
            )
        )
    return shown


def _parts(row: StageReach, loss: Loss | None, largest: int, by_value: bool) -> tuple[tuple[str, str, str], ...]:
    """A stage's bar: what moved on, what is still open, what was lost there; of the last stage, what was won."""
    whole = row.value if by_value else row.reached
    if loss is None:
        return (("won", "0%", share(whole, largest)),)
    still_open, lost = (loss.undecided_minor, loss.lost_minor) if by_value else (loss.undecided, loss.lost)
    parts, begin = [], 0
    for ink, size in (("moved", max(0, whole - still_open - lost)), ("best", still_open), ("gone-lost", lost)):
        if size:
            parts.append((ink, share(begin, largest), share(size, largest)))
            begin += size
    return tuple(parts)


# Marks of an axis: the place in percent, and its words.
Axis = list[tuple[str, str]]


@dataclass(frozen=True)
class TimeRow:
    """A stage's durations on a strip: median, 75th percentile and typical days as places in percent.

    `shape` tells how many leave in each of the strip's equal parts, of the most in any part of any stage; empty on the
    thin strips of a page with many.
    """

    key: str
    name: str
    time: StageTime
    median_at: str | None
    p75_at: str | None
    typical_at: str | None
    running_at: list[str]
    ticks_at: list[str]
    shape: list[float]


@dataclass(frozen=True)
class TimeGroup:
    """A node with its stages; `query` opens its working. `axis`: marks of the strips in percent and in days."""

    name: str
    query: str
    rows: list[TimeRow]
    axis: Axis


# Equal parts of a strip in which those that leave are counted, and how far beyond the last percentile it goes.
PARTS, BEYOND = 48, 1.5
# Marks of running stays on a strip: of more, some spread evenly, fewer where a page has many strips.
MOST_MARKS, FEW_MARKS = 40, 12


def time_groups(line: FilterLine, groups: Sequence[tuple[StageTimeGroup, str]]) -> list[TimeGroup]:
    """Strips of each node's stages, all on one scale of days so that nodes can be compared; each with its query."""
    stages = [stage for group, _ in groups for stage in group.stages]
    days = [d for s in stages for d in (s.km_median, s.km_p75, s.typical_days) if d is not None]
    alone = len(groups) == 1
    most = MOST_MARKS if alone else FEW_MARKS
    ticks = round_ticks(ceil(max([1.0, *days]) * (BEYOND if alone else 1)))
    largest, axis = ticks[-1], [(_at(day, ticks[-1]), count(day)) for day in [0, *ticks]]
    edges = np.linspace(0, largest, PARTS + 1)
    leaving = [stage.curve.leaving(edges) if alone and stage.curve else np.zeros(0) for stage in stages]
    highest = max([1e-9, *(float(part.max()) for part in leaving if len(part))])
    shapes = iter((part / highest).round(3).tolist() for part in leaving)
    return [
        TimeGroup(
            group.name or "without one",
            query,
            [_time_row(line, stage, axis, largest, most, next(shapes)) for stage in group.stages],
            axis,
        )
        for group, query in groups
    ]


def _time_row(line: FilterLine, stage: StageTime, axis: Axis, largest: int, most: int, shape: list[float]) -> TimeRow:
    record, ages = line.book.reference.stages[stage.stage], stage.running_ages
    if len(ages) > most:
        ages = ages[np.linspace(0, len(ages) - 1, most).astype(int)]
    return TimeRow(
        record.key,
        record.name,
        stage,
        _mark(stage.km_median, largest),
        _mark(stage.km_p75, largest),
        _mark(stage.typical_days, largest),
        [_at(min(age, largest), largest) for age in ages.tolist()],
        [days for days, _ in axis],
        shape,
    )


def _mark(days: float | None, largest: float) -> str | None:
    return None if days is None else _at(min(days, largest), largest)


def _at(days: float, largest: float) -> str:
    return f"{days / largest * 100:.1f}%"
