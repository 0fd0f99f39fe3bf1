"""Rows to draw: passing bars of falling length, strips of time."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import zip_longest

import numpy as np

from wise_tally.core.conversion import ConversionGroup, StageReach
from wise_tally.core.drop_off import Loss
from wise_tally.core.statistics import Interval
from wise_tally.core.time_in_stage import StageTime, StageTimeGroup
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.ink import share


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


@dataclass(frozen=True)
class TimeRow:
    """A stage's durations on a strip: median, 75th percentile and typical days as places in percent."""

    key: str
    name: str
    time: StageTime
    median_at: str | None
    p75_at: str | None
    typical_at: str | None
    running_at: list[str]


@dataclass(frozen=True)
class TimeGroup:
    """A node with its stages; `query` opens its working."""

    name: str
    query: str
    rows: list[TimeRow]


# Marks of running stays on a strip: of more, some spread evenly, fewer where a page has many strips.
MOST_MARKS, FEW_MARKS = 40, 12


def time_groups(line: FilterLine, groups: Sequence[tuple[StageTimeGroup, str]]) -> list[TimeGroup]:
    """Strips of each node's stages, all on one scale of days so that nodes can be compared; each with its query."""
    stages = [stage for group, _ in groups for stage in group.stages]
    days = [d for s in stages for d in (s.km_median, s.km_p75, s.typical_days) if d is not None]
    largest, most = max([1.0, *days]) * 1.1, MOST_MARKS if len(groups) == 1 else FEW_MARKS
    return [
        TimeGroup(group.name or "without one", query, [_time_row(line, stage, largest, most) for stage in group.stages])
        for group, query in groups
    ]


def _time_row(line: FilterLine, stage: StageTime, largest: float, most: int) -> TimeRow:
    record, ages = line.book.reference.stages[stage.stage], stage.running_ages
    if len(ages) > most:
        ages = ages[np.linspace(0, len(ages) - 1, most).astype(int)]
    median, p75, typical = (_at(value, largest) for value in (stage.km_median, stage.km_p75, stage.typical_days))
    running = [f"{min(age / largest, 1) * 100:.2f}%" for age in ages.tolist()]
    return TimeRow(record.key, record.name, stage, median, p75, typical, running)


def _at(days: float | None, largest: float) -> str | None:
    return None if days is None else f"{days / largest * 100:.2f}%"
