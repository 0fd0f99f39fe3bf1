"""The working of forecast figures: terms that add up, deals counted, deals not counted by reason."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import grouping
from wise_tally.core.buckets import (
    FIRST_OPEN,
    LOST_IN_PERIOD,
    LOST_OTHER_PERIOD,
    TIMINGS,
    WON_IN_PERIOD,
    WON_OTHER_PERIOD,
)
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import ForecastLines, forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.measures import DEALS
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.trees import NONE

CLOSED_REASONS = {
    WON_IN_PERIOD: "won_here",
    WON_OTHER_PERIOD: "won_elsewhere",
    LOST_IN_PERIOD: "lost_here",
    LOST_OTHER_PERIOD: "lost_elsewhere",
}
TIMING_REASONS = ("open", "overdue", "due_before", "other_period", "undated")


@dataclass(frozen=True)
class Term:
    """One line of the sum: deals of one stage and probability (basis points, None for amounts taken whole)."""

    stage: int
    probability_bp: int | None
    deals: int
    amount_minor: int
    value_minor: int


@dataclass(frozen=True)
class CountedDeal:
    """A counted deal: its index in the book, credited amount and its part of the figure, in minor units."""

    deal: int
    person: int
    amount_minor: int
    value_minor: int


@dataclass(frozen=True)
class Working:
    """How a figure of money came about. `terms` and `counted` both add up to `value_minor` exactly.

    `not_counted` gives the deals inside the node by reason; `category` reasons carry the category's index.
    """

    value_minor: int
    terms: tuple[Term, ...]
    counted: tuple[CountedDeal, ...]
    not_counted: tuple[tuple[str, int, int], ...]


def forecast_working(  # noqa: PLR0913 - the filter line's parts, the figure and its node
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, figure: str, by: str, node: int
) -> Working:
    """The working of one figure of one node, from the same lines that the figure adds up."""
    lines = forecast_lines(book, snapshot, period, scope, by)
    return working_of_lines(lines, lines_inside(book, lines, by, node), figure)


def lines_inside(book: Book, lines: ForecastLines, by: str, node: int) -> Flags:
    """Lines of a node and of all nodes below it."""
    if by == "company":
        return np.ones(len(lines.node), dtype=bool)
    group = grouping(book, by, lines.lines.snapshot.as_of)
    if node == NONE or group.tree is None:
        return np.asarray(lines.node == node)
    table = np.zeros(len(group.keys) + 1, dtype=bool)
    table[list(group.tree.below(node))] = True
    return table[lines.node]


def working_of_lines(lines: ForecastLines, inside: Flags, figure: str) -> Working:
    """Terms, counted and not counted deals of the lines inside a node."""
    snapshot, deal_rows = lines.lines.snapshot, lines.lines.rows
    counts = lines.counts(figure) & inside
    if snapshot.measure == DEALS:
        # Each of a deal's lines bears the whole deal; it counts once.
        first = np.zeros(len(deal_rows), dtype=bool)
        first[np.flatnonzero(counts)[np.unique(deal_rows[counts], return_index=True)[1]]] = True
        counts &= first
    value = lines.value_minor(figure)
    rows = np.flatnonzero(counts)
    rows = rows[np.argsort(-value[rows], kind="stable")]
    counted = tuple(
        CountedDeal(
            int(snapshot.deal[deal_rows[i]]), int(lines.lines.person[i]), int(lines.amount_minor[i]), int(value[i])
        )
        for i in rows
    )
    return Working(
        value_minor=int(value[counts].sum()),
        terms=_terms(lines, rows, figure),
        counted=counted,
        not_counted=_not_counted(lines, inside & ~counts),
    )


def _terms(lines: ForecastLines, rows: np.ndarray, figure: str) -> tuple[Term, ...]:
    snapshot, deal_rows = lines.lines.snapshot, lines.lines.rows[rows]
    value, amount = lines.value_minor(figure)[rows], lines.amount_minor[rows]
    weighted = figure.startswith("weighted")
    by_term: dict[tuple[int, int | None], list[int]] = {}
    for i, index in enumerate(deal_rows):
        open_weighted = weighted and snapshot.kind[index] == OPEN
        key = (int(snapshot.stage[index]), int(snapshot.probability_bp[index]) if open_weighted else None)
        entry = by_term.setdefault(key, [0, 0, 0])
        entry[0] += 1
        entry[1] += int(amount[i])
        entry[2] += int(value[i])
    terms = [Term(stage, probability, *sums) for (stage, probability), sums in by_term.items()]
    kinds = {int(snapshot.stage[p]): int(snapshot.kind[p]) for p in deal_rows}
    return tuple(sorted(terms, key=lambda t: (kinds[t.stage] != WON, -(t.probability_bp or 0), -t.value_minor)))


def _not_counted(lines: ForecastLines, rest: Flags) -> tuple[tuple[str, int, int], ...]:
    snapshot = lines.lines.snapshot
    reasons = []
    for bucket, number in enumerate(np.bincount(lines.bucket[rest], minlength=lines.buckets.size)):
        if number == 0:
            continue
        deals = len(np.unique(snapshot.deal[lines.lines.rows[rest & (lines.bucket == bucket)]]))
        if bucket < FIRST_OPEN:
            reasons.append((CLOSED_REASONS[bucket], NONE, deals))
        else:
            category, timing = divmod(bucket - FIRST_OPEN, TIMINGS)
            counted = category in lines.buckets.counted
            reasons.append((TIMING_REASONS[timing] if counted else "category", category, deals))
    merged: dict[tuple[str, int], int] = {}
    for reason, category, deals in reasons:
        # Counted categories matter only where the category itself is the reason.
        key = (reason, category if reason in ("category", "open", "overdue") else NONE)
        merged[key] = merged.get(key, 0) + deals
    return tuple((reason, category, deals) for (reason, category), deals in merged.items())
