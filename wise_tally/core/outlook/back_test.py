"""Rolling back-test: what past periods were expected to bring, by weighted, actual win rates, run rate and outlook, and what they brought.

Each is asked as it stood on the day, never with later data. The continuous ranked probability score is that of Matheson and Winkler,
Management Science 22 (1976), 1087–1096; it has the unit of money and, of a single number, is its absolute error.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from wise_tally.core.backtest import CACHED_LOOKS, CHECKPOINTS, brier, checkpoints, unchanged_before
from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.derived import Grown, derived
from wise_tally.core.forecast import ForecastLines, calls_of_rows, forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.money import WHOLE_BP, Ints
from wise_tally.core.observed_weight import observed_of_deals
from wise_tally.core.outcome import Outcome, stakes
from wise_tally.core.outlook.distribution import MayBeWon, outcome_of
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW
from wise_tally.core.outlook.rows import OfDeals, Stakes, days_ahead, of_deals, stakes_of
from wise_tally.core.outlook.still_to_come import NOTHING_TO_COME, run_rate
from wise_tally.core.reach import first_win
from wise_tally.core.statistics import Floats, Interval, wilson
from wise_tally.core.trees import NONE

METHODS = ("weighted", "actual", "run_rate", "outlook")
# What was submitted is one number, without a range and without chances, and only where somebody submitted.
SUBMITTED = "submitted"
# The methods that give every open deal a chance.
OF_DEALS = ("weighted", "actual", "outlook")
LOW, HIGH = 0.1, 0.9
BINS = 10
LEAST_PERIODS = 2


@dataclass(frozen=True)
class Guess:
    """What one method expected of a period on a day, in minor units: mean, one in ten below, nine in ten below; and its score."""

    mean: int
    p10: int
    p90: int
    score: float

    def holds(self, came: int) -> bool:
        """Whether what came lies within the range of eight in ten."""
        return self.p10 <= came <= self.p90


@dataclass(frozen=True)
class Look:
    """A past period as it was known on a day, what each method expected, and what was won in it in the end, in minor units.

    `chance` by method and `won` are those of the deals open on the day, shape (deals,): won in the days that were left.
    """

    period: Period
    on: date
    checkpoint: str
    came: int
    guesses: dict[str, Guess]
    chance: dict[str, Floats]
    won: Flags


@dataclass(frozen=True)
class Bin:
    """Deals whose chance lay in one tenth: how many, their mean chance, how many were won, the interval of that share."""

    deals: int
    mean_chance: float
    won: int
    interval: Interval | None

    @property
    def rate(self) -> float:
        """The share won."""
        return self.won / self.deals


@dataclass(frozen=True)
class Score:
    """How a method did: mean absolute error and bias as shares of what was won, mean score in minor units, the share of outcomes
    within its range of eight in ten, the mean squared error of its chances. None where it has none.
    """

    error: float | None
    bias: float | None
    crps: float | None
    coverage: float | None
    brier: float | None


@dataclass(frozen=True)
class RollingTest:
    """All looks at the past periods."""

    looks: tuple[Look, ...]

    @property
    def enough(self) -> bool:
        """Whether two periods or more could be looked at."""
        return len({look.period.text for look in self.looks}) >= LEAST_PERIODS

    def of_period(self, period: Period) -> "RollingTest":
        """The looks at one period."""
        return RollingTest(tuple(look for look in self.looks if look.period == period))

    def of_checkpoint(self, checkpoint: str) -> "RollingTest":
        """The looks at one place in each period."""
        return RollingTest(tuple(look for look in self.looks if look.checkpoint == checkpoint))

    def score(self, method: str) -> Score:
        """How a method did over all looks."""
        looks = [look for look in self.looks if method in look.guesses]
        came = np.array([look.came for look in looks], dtype=float)
        if not len(came) or not came.sum():
            return Score(None, None, None, None, None)
        guesses = [look.guesses[method] for look in looks]
        missed = np.array([guess.mean for guess in guesses]) - came
        inside = [one.holds(look.came) for one, look in zip(guesses, looks, strict=True)]
        return Score(
            float(np.abs(missed).sum() / came.sum()),
            float(missed.sum() / came.sum()),
            float(np.mean([guess.score for guess in guesses])),
            None if method == SUBMITTED else float(np.mean(inside)),
            self._brier(method),
        )

    def _chances(self, method: str) -> tuple[Floats, Flags]:
        if method not in OF_DEALS or not self.looks:
            return np.zeros(0), np.zeros(0, dtype=bool)
        return (
            np.concatenate([look.chance[method] for look in self.looks]),
            np.concatenate([look.won for look in self.looks]),
        )

    def _brier(self, method: str) -> float | None:
        chance, won = self._chances(method)
        return brier(chance, won) if len(chance) else None

    def reliability(self, method: str) -> tuple[Bin | None, ...]:
        """Of each tenth of chances what was won; None where no deal had such a chance."""
        chance, won = self._chances(method)
        tenth = np.minimum((chance * BINS).astype(np.int64), BINS - 1)
        bins: list[Bin | None] = []
        for one in range(BINS):
            inside = tenth == one
            deals, came = int(inside.sum()), int(won[inside].sum())
            bins.append(Bin(deals, float(chance[inside].mean()), came, wilson(came, deals)) if deals else None)
        return tuple(bins)


def past_periods(book: Book, as_of: date, kind: str, number: int) -> list[Period]:
    """The last periods of a kind that are over, the newest first, that begin after the book does."""
    fiscal = book.reference.fiscal
    last = fiscal.containing(as_of, kind)
    return _begun(book, [fiscal.shifted(last, -step) for step in range(1, number + 1)])


def rolling_windows(book: Book, as_of: date, days: int, number: int) -> list[Period]:
    """Spans of `days` days that overlap by a third, the newest first; it ends with the last quarter that is over."""
    fiscal = book.reference.fiscal
    end = fiscal.shifted(fiscal.containing(as_of, "quarter"), -1).ends_on
    ends = [end - timedelta(days=step * (days - days // 3)) for step in range(number)]
    spans = [(one - timedelta(days=days - 1), one) for one in ends]
    return _begun(book, [Period(first, last, "span", f"{first}/{last}") for first, last in spans])


def _begun(book: Book, periods: list[Period]) -> list[Period]:
    """Those that begin after the book does."""
    first, zone = book.first_entered_at, book.reference.time_zone
    return [period for period in periods if midnight_ending(period.starts_on, zone) > first]


def rolling_test(
    book: Book, snapshot: BookAsOf, periods: list[Period], scope: Filter, places: Sequence[str] = CHECKPOINTS
) -> RollingTest:
    """Each period at its checkpoints, where there was enough past for an outlook then."""
    looks = []
    for period in periods:
        came = int(forecast_lines(book, snapshot, period, scope, "company").value_minor("won").sum())
        for checkpoint, on in zip(CHECKPOINTS, checkpoints(period), strict=True):
            if checkpoint in places and (look := look_at(book, period, on, scope, checkpoint, came)).guesses:
                looks.append(look)
    return RollingTest(tuple(looks))


def _untouched(look: Look, grown: Grown, period: Period, on: date, scope: Filter, *_: object) -> Look | None:
    # Whether a deal was won in time is read as well, so the whole period has to be as it was.
    return look if unchanged_before(grown, max(on, period.ends_on), scope) else None


@derived(_untouched, most=CACHED_LOOKS)
def look_at(book: Book, period: Period, on: date, scope: Filter, checkpoint: str, came: int) -> Look:
    """One look; without guesses where fewer than 20 deals had been decided."""
    snapshot = book.looked_back(on)
    whole = of_deals(book, snapshot, period)
    if whole.until.decided.max(initial=0) < ENOUGH_TO_SHOW:
        return Look(period, on, checkpoint, came, {}, {}, np.zeros(0, dtype=bool))
    lines = forecast_lines(book, snapshot, period, scope, "company")
    stake = stakes_of(book, lines, whole)
    outcomes = _outcomes(book, lines, stake, period)
    won_at = first_win(book)[0][snapshot.deal[stake.rows]]
    guesses = {
        method: Guess(one.mean_minor, one.quantile(LOW), one.quantile(HIGH), crps(one, came))
        for method, one in outcomes.items()
    }
    submitted = calls_of_rows(book, snapshot, period, scope, _scope_rows(scope))(_scope_node(scope))
    if submitted is not None:
        guesses[SUBMITTED] = Guess(submitted, submitted, submitted, abs(submitted - came))
    return Look(
        period,
        on,
        checkpoint,
        came,
        guesses,
        _chances(book, lines, whole, stake.rows, period),
        won_at < midnight_ending(period.ends_on, book.reference.time_zone),
    )


def _scope_rows(scope: Filter) -> str:
    return "person" if scope.person != NONE else "team" if scope.team != NONE else "company"


def _scope_node(scope: Filter) -> int:
    return scope.person if scope.person != NONE else max(scope.team, 0)


def _outcomes(book: Book, lines: ForecastLines, stake: Stakes, period: Period) -> dict[str, Outcome]:
    """The distribution of each method."""
    snapshot = lines.lines.snapshot
    won, rows, amount = stakes(lines)
    due, none = amount.astype(float), np.zeros(0)
    rate = run_rate(book, snapshot.cut, days_ahead(snapshot, period)[1]).shared(stake.share)
    outcomes = {
        **{
            method: MayBeWon(won, due, side[rows], NOTHING_TO_COME, 0.0)
            for method, side in _sides(book, snapshot, period)
        },
        "run_rate": MayBeWon(won, none, none, rate, 0.0),
        "outlook": stake.may_be_won,
    }
    return {method: outcome_of(one) for method, one in outcomes.items()}


def _sides(book: Book, snapshot: BookAsOf, period: Period) -> list[tuple[str, Floats]]:
    """The chance of each deal of the snapshot as set and as seen, 0 to 1."""
    observed = observed_of_deals(book, snapshot, period)
    return [("weighted", snapshot.probability_bp / WHOLE_BP), ("actual", observed / WHOLE_BP)]


def _chances(book: Book, lines: ForecastLines, whole: OfDeals, rows: Ints, period: Period) -> dict[str, Floats]:
    """By method the chance of each open deal to be won in time: set and actual where it is due in the period, else none."""
    due = np.isin(rows, lines.lines.rows[lines.counts("open")])
    sides = _sides(book, lines.lines.snapshot, period)
    return {**{method: np.where(due, side[rows], 0.0) for method, side in sides}, "outlook": whole.chance[rows]}


def crps(outcome: Outcome, came: int) -> float:
    """∫ (F(x) − 1[x ≥ came])² dx in minor units, F the distribution's; 0 is best."""
    below = np.cumsum(outcome.probability)[:-1]
    step, first = outcome.step_minor, outcome.won_minor
    starts = first + step * np.arange(len(below))
    under = np.clip(came - starts, 0, step)
    inside = float((below**2 * under + (1 - below) ** 2 * (step - under)).sum())
    last = first + step * len(below)
    return inside + max(first - came, 0) + max(came - last, 0)
