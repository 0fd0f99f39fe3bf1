"""Where the deals of a cohort stopped between two shown stages: lost there, or not decided yet."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.conversion import Cohort, ConversionOptions, StageReach, shown_places, stood_in
from wise_tally.core.money import ratio
from wise_tally.core.reference_data import LOST, OPEN
from wise_tally.core.statistics import Interval, wilson


@dataclass(frozen=True)
class Loss:
    """Deals that reached a shown stage and not the next, with their amounts in minor units on the as-of day.

    `onward` went on to the next or were won without it. `share` is the lost ones among the closed deals that reached
    the stage, None where there is none.
    """

    lost: int
    lost_minor: int
    undecided: int
    undecided_minor: int
    onward: int
    share: float | None


def reaching(book: Book, snapshot: BookAsOf, members: Cohort, strict: bool) -> Flags:
    """Which deals of a cohort reached each open stage in order and, last, won; shape (deals, open stages + 1)."""
    if strict:
        return stood_in(book, snapshot, members)
    return members.furthest[:, None] >= np.arange(len(members.order) + 1)


def from_start_interval(first: StageReach, row: StageReach, by_value: bool) -> Interval | None:
    """Wilson 95 % interval of reached ÷ reached(first shown); None by value, without a rate, or for a rate above 1."""
    return None if by_value or row.from_start is None else wilson(row.reached, first.reached)


def stopped_at(
    book: Book, snapshot: BookAsOf, members: Cohort, options: ConversionOptions, index: int
) -> tuple[Flags, Flags]:
    """Deals of a cohort lost, and those not decided yet, that reached a shown stage and not the next; shapes (deals,).

    `index` is that of the stage in the cohort's order; nothing stops after won.
    """
    indices = shown_places(book, members.order, options)
    following = indices[indices.index(index) + 1]
    reached, kind = reaching(book, snapshot, members, options.strict), snapshot.kind[members.rows]
    stopped = members.in_cohort & reached[:, index] & ~reached[:, following]
    return stopped & (kind == LOST), stopped & (kind == OPEN)


def losses(book: Book, snapshot: BookAsOf, members: Cohort, options: ConversionOptions) -> tuple[Loss, ...]:
    """The loss between each shown stage and the next, won the last; undecided deals apart."""
    members = members.take(np.flatnonzero(members.in_cohort))
    reached = reaching(book, snapshot, members, options.strict)
    kind, amount = snapshot.kind[members.rows], snapshot.amount_minor[members.rows]
    rows = []
    for index in shown_places(book, members.order, options)[:-1]:
        lost, still = stopped_at(book, snapshot, members, options, index)
        reached_it, count, undecided = reached[:, index], int(lost.sum()), int(still.sum())
        rows.append(
            Loss(
                lost=count,
                lost_minor=int(amount[lost].sum()),
                undecided=undecided,
                undecided_minor=int(amount[still].sum()),
                onward=int(reached_it.sum()) - count - undecided,
                share=ratio(count, int((reached_it & (kind != OPEN)).sum())),
            )
        )
    return tuple(rows)
