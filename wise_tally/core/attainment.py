"""Target attainment: won against quota and against pace, what is still needed, and ranks."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import FiscalCalendar, Period
from wise_tally.core.dashboard_counts import sums_by_period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import CACHED_ROWS, ForecastRow, forecast
from wise_tally.core.lines import Filter
from wise_tally.core.money import divide_half_even, ratio
from wise_tally.core.row_targets import row_targets
from wise_tally.core.targets import Target

# Of fewer closed deals no rate of somebody's own is taken.
ENOUGH_CLOSED = 10
QUARTERS_BACK = 4


@dataclass(frozen=True)
class AttainmentRow:
    """A node's forecast row with its pace, in the unit of the measure (minor units, or hundredths of numbers)."""

    forecast: ForecastRow
    pace_target: Target

    @property
    def pace(self) -> int | None:
        """Where the quota should stand by the as-of day."""
        return self.pace_target.value

    @property
    def to_date(self) -> float | None:
        """won ÷ pace."""
        return ratio(self.forecast.won, self.pace)

    @property
    def behind(self) -> int | None:
        """pace − won: negative where ahead."""
        return None if self.pace is None else self.pace - self.forecast.won


@derived(Grows.CARRIED, most=CACHED_ROWS)
def attainment(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str) -> tuple[AttainmentRow, ...]:
    """Attainment of every node of `by` inside the filter. Open deals never count as achieved."""
    paces = row_targets(book, snapshot, period, scope, by, to_date=True)
    return tuple(AttainmentRow(row, paces(row.node)) for row in forecast(book, snapshot, period, scope, by))


@dataclass(frozen=True)
class DaysOf:
    """How many days of a period have passed at the end of a day, and how many remain."""

    passed: int
    remaining: int

    @classmethod
    def at(cls, period: Period, as_of: date) -> "DaysOf":
        """Counted on `as_of`, that day being over."""
        passed = min(max((as_of - period.starts_on).days + 1, 0), period.days)
        return cls(passed, period.days - passed)

    def needed_per_week(self, gap: int | None) -> int | None:
        """gap ÷ remaining weeks (days ÷ 7), rounded half to even; None without a gap above 0 or without days left."""
        if gap is None or gap <= 0 or not self.remaining:
            return None
        return divide_half_even(gap * 7, self.remaining)

    def at_todays_pace(self, won: int) -> int | None:
        """won ÷ share of the days passed, rounded half to even: what the period would end with; None before it begins."""
        return divide_half_even(won * (self.passed + self.remaining), self.passed) if self.passed else None


def deals_needed(gap: int | None, closed: ForecastRow) -> int | None:
    """How many more deals of one's own kind close the gap: gap ÷ mean won amount ÷ win rate of closed, rounded up.

    `closed` is one's row of the look-back. As the mean is won ÷ deals won and the rate deals won ÷ deals closed, that is
    gap × deals closed ÷ won. None without a gap above 0, of fewer than 10 closed deals, or where nothing was won.
    Source: own definition; see the rules of computation.
    """
    number = closed.deals_won + closed.deals_lost
    if gap is None or gap <= 0 or number < ENOUGH_CLOSED or closed.won <= 0:
        return None
    return -(-gap * number // closed.won)


def four_quarters_before(fiscal: FiscalCalendar, as_of: date) -> Period:
    """The last four quarters that are over on a day, as one span."""
    present = fiscal.containing(as_of, "quarter")
    first, last = fiscal.shifted(present, -QUARTERS_BACK), fiscal.shifted(present, -1)
    return Period(first.starts_on, last.ends_on, "span", f"{first.starts_on}/{last.ends_on}")


def side_by_side(
    book: Book, snapshot: BookAsOf, spans: Sequence[Period], scope: Filter, by: str
) -> dict[int, tuple[ForecastRow | None, ...]]:
    """The rows of several spans by node, None where a span has no row; all as of the snapshot's day."""
    rows = [
        {row.node: row for row in of_span} for of_span in (forecast(book, snapshot, span, scope, by) for span in spans)
    ]
    nodes = dict.fromkeys(node for of_span in rows for node in of_span)
    return {node: tuple(of_span.get(node) for of_span in rows) for node in nodes}


def lost_share(row: ForecastRow) -> float | None:
    """Deals lost ÷ deals lost or won, by number."""
    return ratio(row.deals_lost, row.deals_lost + row.deals_won)


def mean_won(row: ForecastRow) -> float | None:
    """Won amount ÷ deals won, in minor units."""
    return ratio(row.won, row.deals_won)


def won_share(row: ForecastRow) -> float | None:
    """Win rate of closed, by number: deals won ÷ deals lost or won."""
    return ratio(row.deals_won, row.deals_lost + row.deals_won)


def ranks(values: Sequence[float | None]) -> list[int | None]:
    """The place of each value, the greatest being 1; equal ones share a place and the next is passed over (1, 2, 2, 4).

    None has no place. Source: common practice (standard competition ranking).
    """
    ordered = sorted((value for value in values if value is not None), reverse=True)
    rank_of: dict[float, int] = {}
    for number, value in enumerate(ordered, start=1):
        rank_of.setdefault(value, number)
    return [None if value is None else rank_of[value] for value in values]


@dataclass(frozen=True)
class SoFar:
    """Sums from the first of several periods to the end of one: won, its target (None where none holds), open behind it.

    `open` is None before the period of the as-of day: what was expected then and is still open counts from there on.
    """

    period: Period
    won: int
    target: int | None
    open: int | None

    @property
    def attainment(self) -> float | None:
        """Won ÷ target of the sums so far."""
        return ratio(self.won, self.target)


def so_far(
    book: Book, snapshot: BookAsOf, periods: tuple[Period, ...], scope: Filter, row: tuple[str, int]
) -> tuple[SoFar, ...]:
    """Won and open of the scope, and the target of a node (`row`: breakdown and node), added up period by period.

    `periods` follow one another. Values are in the unit of the snapshot's measure. Source: common practice.
    """
    by, node = row
    sums = sums_by_period(book, snapshot, periods, scope)
    targets = [row_targets(book, snapshot, period, scope, by)(node).value for period in periods]
    known = [target is not None for target in targets]
    days, won, target, still_open = [], 0, 0, 0
    for index, (period, one) in enumerate(zip(periods, sums, strict=True)):
        won += one.won
        target += targets[index] or 0
        still_open += sum(one.categories[c] for c in book.reference.surest_first)
        ahead = period.ends_on >= snapshot.as_of
        days.append(SoFar(period, won, target if any(known) else None, still_open if ahead else None))
    return tuple(days)
