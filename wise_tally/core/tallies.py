"""Small counts for dashboards: what is open by stage, what was won by month."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, Standing
from wise_tally.core.buckets import deciding_day
from wise_tally.core.calendar import Period
from wise_tally.core.ground import LOST, OPEN, WON
from wise_tally.core.lines import Filter, credited_lines
from wise_tally.core.money import sum_by_group


@dataclass(frozen=True)
class StageTally:
    """Open deals standing in a stage: number and credited amount in minor units."""

    stage: int
    deals: int
    amount_minor: int


def open_by_stage(book: Book, standing: Standing, scope: Filter) -> tuple[StageTally, ...]:
    """Open deals of the scope by stage, whatever their expected close, in the order of processes and stages."""
    lines = credited_lines(book, standing, scope, "company")
    keep = standing.kind[lines.at] == OPEN
    lines = lines.take(keep)
    amount = lines.parts(standing.amount_minor, book.ground.person_rank)
    stage = standing.stage[lines.at]
    found = []
    for process in range(len(book.ground.processes)):
        for index in book.ground.open_stages(process):
            inside = stage == index
            if inside.any() or not book.ground.stages[index].retired:
                deals = len(np.unique(lines.at[inside]))
                found.append(StageTally(index, deals, int(amount[inside].sum())))
    return tuple(found)


@dataclass(frozen=True)
class PeriodSum:
    """Won and open money of the scope in one period, in minor units; `categories` as in the ground."""

    won: int
    categories: tuple[int, ...]


def sums_by_period(book: Book, standing: Standing, periods: tuple[Period, ...], scope: Filter) -> tuple[PeriodSum, ...]:
    """Won money by closing day and open money by expected close, for periods that follow one another, in one pass."""
    lines = credited_lines(book, standing, scope, "company")
    amount = lines.parts(standing.amount_minor, book.ground.person_rank)
    kind, categories = standing.kind[lines.at], len(book.ground.categories)
    day = deciding_day(standing)[lines.at]
    starts = np.array([period.starts_on.toordinal() for period in periods])
    place = np.searchsorted(starts, day, side="right") - 1
    keep = (place >= 0) & (day <= periods[-1].ends_on.toordinal()) & (kind != LOST)
    width = categories + 1
    column = np.where(kind == WON, categories, standing.category[lines.at])
    sums = sum_by_group(amount[keep], (place * width + column)[keep], len(periods) * width).reshape(-1, width).tolist()
    return tuple(PeriodSum(row[-1], tuple(row[:-1])) for row in sums)
