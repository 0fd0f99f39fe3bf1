"""Small counts for dashboards: what is open by stage, what was created and won by month."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, Standing
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.ground import OPEN
from wise_tally.core.lines import Filter, credited_lines


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


def created_by_period(book: Book, standing: Standing, periods: tuple[Period, ...], scope: Filter) -> tuple[int, ...]:
    """Number of deals of the scope created in each period, as they stood on the day."""
    at = np.unique(credited_lines(book, standing, scope, "company").at)
    day = book.created_on[standing.deal[at]]
    return tuple(int(((day >= p.starts_on.toordinal()) & (day <= p.ends_on.toordinal())).sum()) for p in periods)


def won_by_period(book: Book, standing: Standing, periods: tuple[Period, ...], scope: Filter) -> tuple[int, ...]:
    """Won amount of the scope in each period, in minor units."""
    return tuple(
        int(forecast_lines(book, standing, period, scope, "company").value_minor("won").sum()) for period in periods
    )
