"""Over time: what was created, won and lost month by month, velocity and its factors, and unusual months."""

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.conversion import lacks_history
from wise_tally.core.derived import Grows, derived
from wise_tally.core.lines import Filter, owner_filtered
from wise_tally.core.money import Ints, ratio
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.statistics import DAY_SECONDS

WINDOW = 12
# Makes the median absolute deviation of normal values their standard deviation.
NORMAL = 1.4826
FAR = 3.0


@dataclass(frozen=True)
class SpanFigures:
    """One span of days: deals created and their value, deals closed, the mean won amount, median and mean days to win.

    Money in minor units; None where nothing is behind it, or history lacks.
    """

    period: Period
    created: int
    created_value: int
    won: int
    lost: int
    won_value: int
    days_to_win: float | None

    @property
    def win_rate(self) -> float | None:
        """won ÷ (won + lost) closed in the span."""
        return ratio(self.won, self.won + self.lost)

    @property
    def mean_won(self) -> float | None:
        """Mean amount of the won deals."""
        return ratio(self.won_value, self.won)

    @property
    def mean_created(self) -> float | None:
        """Mean amount, on the as-of day, of the deals created."""
        return ratio(self.created_value, self.created)


@dataclass(frozen=True)
class SortedDays:
    """Days sorted once, so that those of a period are found by bisection; shapes (n,)."""

    order: Ints
    days: Ints

    @classmethod
    def of(cls, days: Ints) -> "SortedDays":
        """The days of some rows."""
        order = np.argsort(days, kind="stable")
        return cls(order, days[order])

    def inside(self, period: Period) -> Ints:
        """Places of the rows whose day lies in a period."""
        first, after = np.searchsorted(self.days, (period.starts_on.toordinal(), period.ends_on.toordinal() + 1))
        return self.order[first:after]


@dataclass(frozen=True)
class ScopeOverTime:
    """The deals of a scope by the owner on the day (`rows`: rows of the snapshot), by their days of creation and of closing."""

    rows: Ints
    created: SortedDays
    closed: SortedDays

    def created_in(self, period: Period) -> Ints:
        """Places in `rows` of the deals created in the period by their local day."""
        return self.created.inside(period)

    def closed_in(self, period: Period) -> Ints:
        """Places in `rows` of the deals won or lost in the period."""
        return self.closed.inside(period)


@derived(Grows.CARRIED)
def scope_over_time(book: Book, snapshot: BookAsOf, scope: Filter) -> ScopeOverTime:
    """The deals of a scope sorted by their days; several figures of a page ask for the same. Open deals are closed before every day."""
    rows = np.flatnonzero(owner_filtered(book, snapshot, scope))
    created = SortedDays.of(book.created_on[snapshot.deal[rows]])
    return ScopeOverTime(rows, created, SortedDays.of(snapshot.closed_on[rows]))


def spans(book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter) -> tuple[SpanFigures, ...]:
    """Figures of each span, by the owner on the day; deals created by their local day of creation."""
    deals_of = scope_over_time(book, snapshot, scope)
    rows = deals_of.rows
    amount, kind, deal = snapshot.amount_minor[rows], snapshot.kind[rows], snapshot.deal[rows]
    took = (snapshot.closed_at[rows] - book.deals.created_at[deal]) / DAY_SECONDS
    short = book.deals.short_form[deal]
    figures = []
    for period in periods:
        new, ended = deals_of.created_in(period), deals_of.closed_in(period)
        won = ended[kind[ended] == WON]
        known = len(won) > 0 and not lacks_history(len(won), int(short[won].sum()))
        figures.append(
            SpanFigures(
                period,
                len(new),
                int(amount[new].sum()),
                len(won),
                len(ended) - len(won),
                int(amount[won].sum()),
                float(took[won].mean()) if known else None,
            )
        )
    return tuple(figures)


def deals_behind(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, figure: str) -> Ints:
    """Rows of the snapshot of the deals that a figure of a span rests on."""
    over_time = scope_over_time(book, snapshot, scope)
    if "created" in figure:
        return over_time.rows[over_time.created_in(period)]
    closed = over_time.rows[over_time.closed_in(period)]
    return closed if figure == "win_rate" else closed[snapshot.kind[closed] == WON]


@dataclass(frozen=True)
class Velocity:
    """Money a day: open deals × win rate of closed × mean won amount ÷ mean days to win. Minor units; None where a factor is."""

    open_deals: int
    win_rate: float | None
    mean_won: float | None
    days_to_win: float | None

    @property
    def per_day(self) -> float | None:
        """The product of its factors."""
        if self.win_rate is None or self.mean_won is None or not self.days_to_win:
            return None
        return self.open_deals * self.win_rate * self.mean_won / self.days_to_win


def velocity(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> Velocity:
    """Velocity of the period: deals open on the snapshot's day, the other factors of deals closed in it. Common practice."""
    figures = spans(book, snapshot, (period,), scope)[0]
    still_open = int((owner_filtered(book, snapshot, scope) & (snapshot.kind == OPEN)).sum())
    return Velocity(still_open, figures.win_rate, figures.mean_won, figures.days_to_win)


@dataclass(frozen=True)
class Usual:
    """What the months before make of a value: their median and how far from it is still usual."""

    median: float
    reach: float

    def is_unusual(self, value: float) -> bool:
        """Whether a value lies outside median ± reach."""
        return abs(value - self.median) > self.reach


def of_three_months(figures: Sequence[SpanFigures], name: str) -> tuple[float | None, ...]:
    """A figure over each month and the two before it: a mean a month of numbers, else worked out of all three together.

    None for the first two. `name` is one of a month's own; rates, sizes and days take every deal of the three months alike.
    """
    means: list[float | None] = [None, None]
    for index in range(2, len(figures)):
        three = figures[index - 2 : index + 1]
        if name == "days_to_win":
            timed = [(one.days_to_win, one.won) for one in three if one.days_to_win is not None]
            number = sum(won for _, won in timed)
            means.append(sum(days * won for days, won in timed) / number if number else None)
            continue
        added = {
            key: sum(getattr(one, key) for one in three)
            for key in ("created", "created_value", "won", "lost", "won_value")
        }
        value = getattr(SpanFigures(three[-1].period, **added, days_to_win=None), name)
        means.append(value / 3 if name in added else value)
    return tuple(means[: len(figures)])


def mean_before(values: Sequence[float | None], index: int) -> float | None:
    """The mean of the twelve months before a place; None where any of them is unknown or all are 0."""
    year = [value for value in values[max(0, index - WINDOW) : index] if value is not None]
    return sum(year) / WINDOW if len(year) == WINDOW and any(year) else None


def usual(values: Sequence[float | None], last_is_over: bool = True) -> tuple[Usual | None, ...]:
    """For each value what the twelve before it make of it; None where fewer than twelve are known, and for a last that is not over.

    Outside median ± 3 × 1.4826 × MAD counts as unusual (robust z-score, common practice); with a MAD of 0 any other value does.
    """
    ranges: list[Usual | None] = []
    for index in range(len(values)):
        before = [value for value in values[max(0, index - WINDOW) : index] if value is not None]
        if len(before) < WINDOW or (index == len(values) - 1 and not last_is_over):
            ranges.append(None)
            continue
        middle = float(median(before))
        spread = float(median(abs(value - middle) for value in before))
        ranges.append(Usual(middle, FAR * NORMAL * spread))
    return tuple(ranges)
