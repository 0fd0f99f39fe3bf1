"""Forecast of a period, per node.

Every credited line stands in exactly one bucket, and every figure of money or number is a sum over buckets.
So the figures partition the deals, and the working of a figure is the list of the lines in its buckets.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import MEMBER, Grouping, Pairs, grouping
from wise_tally.core.buckets import FIGURES, LOST_IN_PERIOD, WON_IN_PERIOD, Buckets, buckets_in, picks
from wise_tally.core.calendar import Period
from wise_tally.core.calls import submitted_amounts
from wise_tally.core.derived import Grows, derived
from wise_tally.core.lines import Filter, Lines, credited_lines, members_of_day, node_of_lines, shown_nodes
from wise_tally.core.measures import AMOUNT, DEALS
from wise_tally.core.money import WHOLE_BP, Ints, ratio, sum_by_group
from wise_tally.core.row_targets import FILTERED, carries_quota, person_of_node, row_targets
from wise_tally.core.targets import Target
from wise_tally.core.trees import NONE

# How many numbers of deals a row holds behind its figures: won, open, lost.
NUMBERS = 3


@dataclass(frozen=True)
class ForecastLines:
    """The lines of a scope with their bucket, credited amount and credited weighted value, in minor units."""

    lines: Lines
    node: Ints
    bucket: Ints
    amount_minor: Ints
    weighted_minor: Ints
    buckets: Buckets

    def value_minor(self, figure: str) -> Ints:
        """What each line adds to `figure`; 0 outside its buckets."""
        column = self.weighted_minor if figure.startswith("weighted") else self.amount_minor
        return np.where(self.counts(figure), column, 0)

    def counts(self, figure: str) -> Flags:
        """Which lines `figure` counts."""
        table = np.zeros(self.buckets.size, dtype=bool)
        table[list(self.buckets.of(figure))] = True
        return table[self.bucket]

    @cached_property
    def deals_included(self) -> Flags:
        """Lines won, or open and counted, in the period: the deals the page counts."""
        return self.counts("weighted")


@dataclass(frozen=True)
class ForecastRow:
    """All forecast figures of one node, in minor units; `node` -1 is the row of deals without the attribute."""

    node: int
    key: str | None
    name: str | None
    won: int
    lost: int
    categories: tuple[int, ...]
    open: int
    weighted_open: int
    weighted: int
    commit_forecast: int
    best_case_forecast: int
    overdue: int
    overdue_before: int
    undated: int
    deals_won: int
    deals_open: int
    deals_lost: int
    target: Target
    call: int | None

    @property
    def quota(self) -> int | None:
        """The node's own quota where set, else the sum of its parts'."""
        return self.target.value

    @property
    def attainment(self) -> float | None:
        """won ÷ quota."""
        return ratio(self.won, self.quota)

    @property
    def gap(self) -> int | None:
        """quota − won."""
        return None if self.quota is None else self.quota - self.won

    @property
    def coverage(self) -> float | None:
        """open ÷ gap; None where the gap is not above 0."""
        return ratio(self.open, self.gap) if self.gap is not None and self.gap > 0 else None


def forecast_lines(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str) -> ForecastLines:
    """The credited lines of the scope, each in its bucket.

    A won deal falls in the period of its closing, an open one in that of its expected close. An amount is
    weighted and rounded whole, then divided by credit shares.
    """
    lines = credited_lines(book, snapshot, scope, by)
    ranks = book.reference.person_rank
    buckets = Buckets(len(book.reference.categories), book.reference.surest_first)
    return ForecastLines(
        lines=lines,
        node=node_of_lines(book, lines, by),
        bucket=_bucket_of_deals(snapshot, period)[lines.rows],
        amount_minor=value_of_lines(lines, snapshot.amount_minor, ranks),
        weighted_minor=value_of_lines(lines, snapshot.weighted_minor, ranks),
        buckets=buckets,
    )


def value_of_lines(lines: Lines, values: Ints, person_rank: Ints) -> Ints:
    """What each line has of its deal's value: its part of money, the whole of a number of deals."""
    return values[lines.rows] if lines.snapshot.measure == DEALS else lines.parts(values, person_rank)


CACHED_ROWS = 32
"""Tables of rows that are kept with the book as it stood; one of 1,000 reps takes a megabyte."""


@derived(Grows.CARRIED)
def _bucket_of_deals(snapshot: BookAsOf, period: Period) -> npt.NDArray[np.int16]:
    """The bucket of each deal of the snapshot: several breakdowns of one period ask for it."""
    return buckets_in(snapshot, period.starts_on.toordinal(), period.ends_on.toordinal()).astype(np.int16)


@derived(Grows.CARRIED, most=CACHED_ROWS)
def forecast(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, calls: bool = False
) -> tuple[ForecastRow, ...]:
    """The forecast rows of all nodes of `by` inside the filter, by identifier, the row of those without last.

    Calls are rolled up only where `calls` asks for them; else they are None.
    """
    lines = forecast_lines(book, snapshot, period, scope, by)
    return rows_of_lines(book, lines, (period, scope, by), calls)


def rows_of_lines(
    book: Book, lines: ForecastLines, selection: tuple[Period, Filter, str], calls: bool = False
) -> tuple[ForecastRow, ...]:
    """The rows of lines that are there: the period, filter and breakdown are those they were made for."""
    period, scope, by = selection
    snapshot = lines.lines.snapshot
    group = grouping(book, by, snapshot.as_of)
    if isinstance(group, Pairs):
        return _rows_of_pairs(book, lines, selection, group, calls)
    counts = deals_by_node(lines, group)
    nodes = shown_nodes(book.reference, scope, group, snapshot.as_of, holding_nodes(lines.buckets, counts))
    figures = figure_tables(lines, group, counts, nodes)
    target = row_targets(book, snapshot, period, scope, by)
    call = calls_of_rows(book, snapshot, period, scope, by) if calls else _no_call
    return tuple(
        forecast_row(node, group, sums, (target(node), call(node))) for node, sums in zip(nodes, figures, strict=True)
    )


def _rows_of_pairs(
    book: Book, lines: ForecastLines, selection: tuple[Period, Filter, str], group: Pairs, calls: bool
) -> tuple[ForecastRow, ...]:
    """The rows of pairs that hold something, and of people in the team of the day; only these get a place in tables."""
    period, scope, by = selection
    snapshot = lines.lines.snapshot
    members = members_of_day(book.reference, scope, group, snapshot.as_of)
    nodes = np.union1d(lines.node, np.array(members, dtype=np.int64)).astype(np.int64)
    blank = ("",) * len(nodes)
    small = replace(lines, node=np.searchsorted(nodes, lines.node))
    table = Grouping(by, blank, blank, None)
    counts = deals_by_node(small, table)
    figures = figure_tables(small, table, counts, list(range(len(nodes))))
    holding, shown = holding_nodes(lines.buckets, counts), set(members)
    target = row_targets(book, snapshot, period, scope, by)
    call = calls_of_rows(book, snapshot, period, scope, by) if calls else _no_call
    return tuple(
        forecast_row(node, group, figures[index], (target(node), call(node)))
        for index, node in enumerate(nodes.tolist())
        if holding[index] or node in shown
    )


def forecast_of_periods(
    book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter, by: str
) -> list[tuple[ForecastRow, ...]]:
    """The rows of several periods."""
    by_period = lines_of_periods(book, snapshot, periods, scope, by)
    return [rows_of_lines(book, lines, (period, scope, by)) for period, lines in zip(periods, by_period, strict=True)]


def lines_of_periods(
    book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter, by: str
) -> Iterator[ForecastLines]:
    """The lines of each of several periods; they are made once, only their buckets differ."""
    if not periods:
        return
    lines = forecast_lines(book, snapshot, periods[0], scope, by)
    for period in periods:
        yield replace(lines, bucket=_bucket_of_deals(snapshot, period)[lines.lines.rows])


def holding_nodes(buckets: Buckets, counts: Ints) -> Flags:
    """Which nodes have a deal in a bucket that some figure adds up; `counts` has shape (nodes, buckets)."""
    reported = picks(buckets)[: buckets.size].any(axis=1)
    return np.asarray(counts[:, reported].any(axis=1))


def figure_tables(lines: ForecastLines, group: Grouping, counts: Ints, nodes: list[int]) -> list[list[int]]:
    """All figures of the given nodes, -1 that of lines without one: money as in FIGURES, categories, then counts."""
    amounts = sums_by_node(lines.amount_minor, lines, group)[nodes]
    weighted = sums_by_node(lines.weighted_minor, lines, group)[nodes]
    counts = counts[nodes]
    money = np.hstack([amounts, weighted]) @ picks(lines.buckets)
    still_open = counts[:, list(lines.buckets.of("open"))].sum(axis=1)
    numbers = np.stack([counts[:, WON_IN_PERIOD], still_open, counts[:, LOST_IN_PERIOD]], axis=1)
    return np.hstack([money, numbers]).tolist()


def sums_by_node(values: Ints, lines: ForecastLines, group: Grouping) -> Ints:
    """Sums of shape (nodes + 1, buckets), rolled up the tree; the last row is of lines without a node."""
    if lines.lines.snapshot.measure == DEALS:
        return sums_once(values, lines, group)
    nodes, size = group.size, lines.buckets.size
    index = np.where(lines.node == NONE, nodes, lines.node)
    sums = sum_by_group(values, index * size + lines.bucket, (nodes + 1) * size).reshape(nodes + 1, size)
    if group.tree is not None:
        sums[:nodes] = group.tree.roll_up(sums[:nodes])
    return sums


def deals_by_node(lines: ForecastLines, group: Grouping) -> Ints:
    """Numbers of deals of shape (nodes + 1, buckets); a deal split inside a node counts once."""
    return sums_once(np.ones(len(lines.node), dtype=np.int64), lines, group)


def sums_once(values: Ints, lines: ForecastLines, group: Grouping) -> Ints:
    """Sums of shape (nodes + 1, buckets) in which a deal counts once a node; its lines all bear its whole value."""
    nodes, size = group.size, lines.buckets.size
    index = np.where(lines.node == NONE, nodes, lines.node)
    split = lines.lines.share_bp != WHOLE_BP
    cells = (index * size + lines.bucket)[~split]
    counts = sum_by_group(values[~split], cells, (nodes + 1) * size).reshape(nodes + 1, size)
    if group.tree is not None:
        counts[:nodes] = group.tree.roll_up(counts[:nodes])
    if split.any():
        above = group.tree.ancestors[lines.node[split]] if group.tree is not None else lines.node[split][:, None]
        above = np.where(above == NONE, nodes, above)
        above[:, 1:][above[:, 1:] == nodes] = -1
        cell = above * size + lines.bucket[split][:, None]
        deal = np.broadcast_to(lines.lines.rows[split][:, None], cell.shape)
        has_parent = above >= 0
        once, line = np.unique(deal[has_parent] * ((nodes + 1) * size) + cell[has_parent], return_index=True)
        value = np.broadcast_to(values[split][:, None], cell.shape)[has_parent][line]
        counts += sum_by_group(value, once % ((nodes + 1) * size), (nodes + 1) * size).reshape(nodes + 1, size)
    return counts


def forecast_row(node: int, group: Grouping, figures: list[int], given: tuple[Target, int | None]) -> ForecastRow:
    """A node's record from its figures (as `figure_tables` orders them), its target and its call."""
    key, name = group.key_and_name(node)
    categories, counts = tuple(figures[len(FIGURES) : -NUMBERS]), figures[-NUMBERS:]
    # By place, in the order of FIGURES: by name would take twice as long, and a page may ask for hundreds of rows.
    won, lost, *others = figures[: len(FIGURES)]
    return ForecastRow(node, key, name, won, lost, categories, *others, *counts, *given)  # type: ignore[call-arg, arg-type]


def calls_of_rows(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str
) -> Callable[[int], int | None]:
    """The call of a node; none where the filter keeps other deals than calls mean, or deals count for another measure."""
    if snapshot.measure != AMOUNT or snapshot.due_on is not None or scope.only or by in FILTERED:
        return _no_call
    if not carries_quota(scope, by):
        return _no_call
    amounts = call_amounts(book, snapshot, period)
    if by == MEMBER:
        person_at = person_of_node(book, snapshot)
        return lambda node: amounts.get(("person", person_at(node)))
    return lambda node: amounts.get((by, NONE if by == "company" else node))


@derived(Grows.CARRIED)
def call_amounts(book: Book, snapshot: BookAsOf, period: Period) -> dict[tuple[str, int], int | None]:
    """The called amount of every node, of which several breakdowns of a page ask."""
    return submitted_amounts(book.reference, snapshot.as_of, period, weighted_by_person(book, snapshot, period))


def _no_call(node: int) -> int | None:
    return None


def deals_without(lines: ForecastLines) -> int:
    """Deals won, or open and counted, in the period that have none of what deals count for here."""
    known = lines.lines.snapshot.known
    return 0 if known is None else len(np.unique(lines.lines.rows[lines.deals_included & ~known[lines.lines.rows]]))


def weighted_by_person(book: Book, snapshot: BookAsOf, period: Period) -> dict[int, int]:
    """Each person's weighted figure of the period, credited parts, in minor units."""
    lines = forecast_lines(book, snapshot, period, Filter(), "person")
    sums = sum_by_group(lines.value_minor("weighted"), lines.node, len(book.reference.people))
    return {index: int(value) for index, value in enumerate(sums)}
