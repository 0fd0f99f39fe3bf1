"""Forecast of a period, per node.

Every credited line stands in exactly one bucket, and every figure of money or number is a sum over buckets.
So the figures partition the deals, and the working of a figure is the list of the lines in its buckets.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, cached_property

import numpy as np

from wise_tally.core.book import Book, Flags, Standing
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.calls import called
from wise_tally.core.ground import OPEN, WON, Ground
from wise_tally.core.lines import (
    Filter,
    Grouping,
    Lines,
    credited_lines,
    grouping,
    node_of_lines,
    shown_nodes,
)
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.targets import NO_TARGET, PLAIN, Target, Targets, quotas
from wise_tally.core.trees import NONE

WON_HERE, WON_ELSEWHERE, LOST_HERE, LOST_ELSEWHERE, FIRST_OPEN = range(5)
DUE, OVERDUE, DUE_BEFORE, OTHER_PERIOD, UNDATED = range(5)
TIMINGS = 5
FIGURES = (
    "won",
    "lost",
    "open",
    "weighted_open",
    "weighted",
    "commit_forecast",
    "best_case_forecast",
    "overdue",
    "overdue_before",
    "undated",
)


@dataclass(frozen=True)
class Buckets:
    """The numbering of buckets: won and lost in or outside the period, then category × timing of open deals."""

    categories: int
    counted: tuple[int, ...]

    @property
    def size(self) -> int:
        """Number of buckets."""
        return FIRST_OPEN + self.categories * TIMINGS

    def open(self, categories: tuple[int, ...], timings: tuple[int, ...]) -> tuple[int, ...]:
        """Buckets of open deals of the given categories and timings."""
        return tuple(FIRST_OPEN + category * TIMINGS + timing for category in categories for timing in timings)

    @property
    def names(self) -> tuple[str, ...]:
        """All figures of money: FIGURES, then one a category."""
        return (*FIGURES, *(f"category:{category}" for category in range(self.categories)))

    @cache  # noqa: B019 - a numbering is a small value of which a process meets a handful
    def of(self, figure: str) -> tuple[int, ...]:
        """Buckets a figure adds up; `category:N` is the money of category N. `counted` lists the surest first."""
        in_period = (DUE, OVERDUE)
        if figure.startswith("category:"):
            return self.open((int(figure.partition(":")[2]),), in_period)
        return {
            "won": (WON_HERE,),
            "lost": (LOST_HERE,),
            "open": self.open(self.counted, in_period),
            "weighted_open": self.open(self.counted, in_period),
            "weighted": (WON_HERE, *self.open(self.counted, in_period)),
            "commit_forecast": (WON_HERE, *self.open(self.counted[:1], in_period)),
            "best_case_forecast": (WON_HERE, *self.open(self.counted[:2], in_period)),
            "overdue": self.open(self.counted, (OVERDUE,)),
            "overdue_before": self.open(self.counted, (DUE_BEFORE,)),
            "undated": self.open(self.counted, (UNDATED,)),
        }[figure]


@cache
def picks(buckets: Buckets) -> Ints:
    """Shape (2 × buckets, names): 1 where the figure of the column adds up the bucket of the row.

    Amounts stand in the first half of the rows, weighted values in the second.
    """
    table = np.zeros((2 * buckets.size, len(buckets.names)), dtype=np.int64)
    for column, name in enumerate(buckets.names):
        first = buckets.size if name.startswith("weighted") else 0
        table[[first + bucket for bucket in buckets.of(name)], column] = 1
    table.setflags(write=False)
    return table


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
    def deals_here(self) -> Flags:
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


def forecast_lines(book: Book, standing: Standing, period: Period, scope: Filter, by: str) -> ForecastLines:
    """The credited lines of the scope, each in its bucket.

    A won deal falls in the period of its closing, an open one in that of its expected close. An amount is
    weighted and rounded whole, then divided by credit shares.
    """
    lines = credited_lines(book, standing, scope, by)
    ranks = book.ground.person_rank
    buckets = Buckets(len(book.ground.categories), book.ground.surest_first)
    return ForecastLines(
        lines=lines,
        node=node_of_lines(book, lines, by),
        bucket=_bucket_of_deals(standing, period)[lines.at],
        amount_minor=lines.parts(standing.amount_minor, ranks),
        weighted_minor=lines.parts(standing.weighted_minor, ranks),
        buckets=buckets,
    )


def _bucket_of_deals(standing: Standing, period: Period) -> Ints:
    """The bucket of each deal of the standing, kept with it: several breakdowns of one period ask for it."""
    if period not in standing.memo:
        standing.memo[period] = buckets_in(standing, period.starts_on.toordinal(), period.ends_on.toordinal())
    return standing.memo[period]


def buckets_in(standing: Standing, first: int, last: int) -> Ints:
    """The bucket of each state in a period from day ordinal `first` to `last`, shape of the standing."""
    close, today = standing.expected_close, standing.as_of.toordinal()
    inside = (close >= first) & (close <= last)
    late = close < today
    timing = np.where(inside, np.where(late, OVERDUE, DUE), np.where(late & (close < first), DUE_BEFORE, OTHER_PERIOD))
    timing[close == NO_DAY] = UNDATED
    closed_inside = (standing.closed_on >= first) & (standing.closed_on <= last)
    closed = np.where(standing.kind == WON, WON_HERE, LOST_HERE) + ~closed_inside
    return np.where(standing.kind == OPEN, FIRST_OPEN + standing.category * TIMINGS + timing, closed)


def forecast(
    book: Book, standing: Standing, period: Period, scope: Filter, by: str, calls: bool = False
) -> tuple[ForecastRow, ...]:
    """The forecast rows of all nodes of `by` inside the filter, by identifier, the row of those without last.

    Calls are rolled up only where `calls` asks for them; else they are None.
    """
    lines = forecast_lines(book, standing, period, scope, by)
    group = grouping(book.ground, by, standing.as_of)
    counts = deals_by_node(lines, group)
    figures = figure_tables(lines, group, counts)
    holding = holding_nodes(lines.buckets, counts)
    targets, call = targets_and_calls(book, standing, period, scope, by, calls)
    rows = []
    for node in shown_nodes(book.ground, scope, group, standing.as_of, holding):
        target = NO_TARGET if node == NONE else targets(node)
        rows.append(forecast_row(node, group, figures[node], (target, call(node))))
    return tuple(rows)


def holding_nodes(buckets: Buckets, counts: Ints) -> Flags:
    """Which nodes have a deal in a bucket that some figure adds up; `counts` has shape (nodes, buckets)."""
    reported = picks(buckets)[: buckets.size].any(axis=1)
    return np.asarray(counts[:, reported].any(axis=1))


def figure_tables(lines: ForecastLines, group: Grouping, counts: Ints) -> list[list[int]]:
    """All figures of every node, the last that of lines without a node: money as in FIGURES, categories, then counts."""
    amounts = sums_by_node(lines.amount_minor, lines, group)
    weighted = sums_by_node(lines.weighted_minor, lines, group)
    money = np.hstack([amounts, weighted]) @ picks(lines.buckets)
    numbers = np.stack([counts[:, WON_HERE], counts[:, list(lines.buckets.of("open"))].sum(axis=1)], axis=1)
    return np.hstack([money, numbers]).tolist()


def sums_by_node(values: Ints, lines: ForecastLines, group: Grouping) -> Ints:
    """Sums of shape (nodes + 1, buckets), rolled up the tree; the last row is of lines without a node."""
    nodes, size = len(group.keys), lines.buckets.size
    place = np.where(lines.node == NONE, nodes, lines.node)
    sums = sum_by_group(values, place * size + lines.bucket, (nodes + 1) * size).reshape(nodes + 1, size)
    if group.tree is not None:
        sums[:nodes] = group.tree.roll_up(sums[:nodes])
    return sums


def deals_by_node(lines: ForecastLines, group: Grouping) -> Ints:
    """Numbers of deals of shape (nodes + 1, buckets); a deal split inside a node counts once."""
    nodes, size = len(group.keys), lines.buckets.size
    place = np.where(lines.node == NONE, nodes, lines.node)
    split = lines.lines.share_bp != 10_000
    counts = np.bincount((place * size + lines.bucket)[~split], minlength=(nodes + 1) * size).reshape(nodes + 1, size)
    if group.tree is not None:
        counts[:nodes] = group.tree.roll_up(counts[:nodes])
    if split.any():
        above = group.tree.ancestors[lines.node[split]] if group.tree is not None else lines.node[split][:, None]
        above = np.where(above == NONE, nodes, above)
        above[:, 1:][above[:, 1:] == nodes] = -1
        cell = above * size + lines.bucket[split][:, None]
        deal = np.broadcast_to(lines.lines.at[split][:, None], cell.shape)
        kept = above >= 0
        once = np.unique(deal[kept] * ((nodes + 1) * size) + cell[kept])
        counts += np.bincount(once % ((nodes + 1) * size), minlength=(nodes + 1) * size).reshape(nodes + 1, size)
    return counts


def forecast_row(node: int, group: Grouping, figures: list[int], said: tuple[Target, int | None]) -> ForecastRow:
    """A node's record from its figures (as `figure_tables` orders them), its target and its call."""
    key, name = (None, None) if node == NONE else (group.keys[node], group.names[node])
    categories, counts = tuple(figures[len(FIGURES) : -2]), figures[-2:]
    # By place, in the order of FIGURES: by name would take twice as long, and a page may ask for hundreds of rows.
    won, lost, *others = figures[: len(FIGURES)]
    return ForecastRow(node, key, name, won, lost, categories, *others, *counts, *said)  # type: ignore[call-arg, arg-type]


def carries_quota(scope: Filter, by: str) -> bool:
    """Whether quotas and calls of `by` rows mean the same deals as the filter keeps."""
    if scope.process != NONE or by == "process":
        return False
    if by == "territory":
        return not scope.of_people
    if scope.territory != NONE:
        return False
    if by == "person":
        return True
    if by == "team":
        return scope.person == NONE
    return not scope.of_people


def quotas_of_rows(ground: Ground, standing: Standing, period: Period, by: str) -> dict[int, Targets]:
    """For deal types and sources: the company's quotas that carry just that value, by its index."""
    names = ground.deal_types if by == "deal_type" else ground.sources
    carried = {quota.filters for quota in ground.quotas}
    found = {}
    for index, name in enumerate(names):
        filters = ("", name, "", "") if by == "deal_type" else ("", "", name, "")
        if filters in carried:
            found[index] = quotas(ground, standing.as_of, period, filters=filters)
    return found


def targets_and_calls(
    book: Book, standing: Standing, period: Period, scope: Filter, by: str, calls: bool
) -> tuple[Callable[[int], Target], Callable[[int], int | None]]:
    """The target and the call of a node; none where the filter keeps other deals than they mean."""
    ground = book.ground
    if not carries_quota(scope, by):
        return (lambda node: NO_TARGET), (lambda node: None)
    if by in ("deal_type", "source"):
        filtered = quotas_of_rows(ground, standing, period, by)
        return (lambda node: filtered[node].company if node in filtered else NO_TARGET), (lambda node: None)
    targets = quotas(ground, standing.as_of, period, filters=PLAIN)
    if not calls:
        return (lambda node: targets.of(by, node)), (lambda node: None)
    amounts = called(ground, standing.as_of, period, weighted_by_person(book, standing, period))
    place = (lambda node: NONE) if by == "company" else (lambda node: node)
    return (lambda node: targets.of(by, node)), (lambda node: amounts.get((by, place(node))))


def weighted_by_person(book: Book, standing: Standing, period: Period) -> dict[int, int]:
    """Each person's weighted figure of the period, credited parts, in minor units."""
    lines = forecast_lines(book, standing, period, Filter(), "person")
    sums = sum_by_group(lines.value_minor("weighted"), lines.node, len(book.ground.people))
    return {index: int(value) for index, value in enumerate(sums)}
