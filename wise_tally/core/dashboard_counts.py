"""Small counts for dashboards: what is open by stage, what was won by month."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.buckets import deciding_day
from wise_tally.core.calendar import Period
from wise_tally.core.lines import Filter, credited_lines
from wise_tally.core.money import sum_by_group
from wise_tally.core.reference_data import LOST, OPEN, WON


@dataclass(frozen=True)
class StageTally:
    """Open deals standing in a stage: number and credited amount in minor units."""

    stage: int
    deals: int
    amount_minor: int


def open_by_stage(book: Book, snapshot: BookAsOf, scope: Filter) -> tuple[StageTally, ...]:
    """Open deals of the scope by stage, whatever their expected close, in the order of processes and stages."""
    lines = credited_lines(book, snapshot, scope, "company")
    keep = snapshot.kind[lines.rows] == OPEN
    lines = lines.take(keep)
    amount = lines.parts(snapshot.amount_minor, book.reference.person_rank)
    stage = snapshot.stage[lines.rows]
    tallies = []
    for process in range(len(book.reference.processes)):
        for index in book.reference.open_stages(process):
            inside = stage == index
            if inside.any() or not book.reference.stages[index].retired:
                deals = len(np.unique(lines.rows[inside]))
                tallies.append(StageTally(index, deals, int(amount[inside].sum())))
    return tuple(tallies)


@dataclass(frozen=True)
class PeriodSum:
    """Won and open money of the scope in one period, in minor units; `categories` as in the reference data."""

    won: int
    categories: tuple[int, ...]


def sums_by_period(book: Book, snapshot: BookAsOf, periods: tuple[Period, ...], scope: Filter) -> tuple[PeriodSum, ...]:
    """Won money by closing day and open money by expected close, for periods that follow one another, in one pass."""
    if not periods:
        return ()
    lines = credited_lines(book, snapshot, scope, "company")
    amount = lines.parts(snapshot.amount_minor, book.reference.person_rank)
    kind, categories = snapshot.kind[lines.rows], len(book.reference.categories)
    day = deciding_day(snapshot)[lines.rows]
    starts = np.array([period.starts_on.toordinal() for period in periods])
    index = np.searchsorted(starts, day, side="right") - 1
    keep = (index >= 0) & (day <= periods[-1].ends_on.toordinal()) & (kind != LOST)
    width = categories + 1
    column = np.where(kind == WON, categories, snapshot.category[lines.rows])
    sums = sum_by_group(amount[keep], (index * width + column)[keep], len(periods) * width).reshape(-1, width).tolist()
    return tuple(PeriodSum(row[-1], tuple(row[:-1])) for row in sums)
