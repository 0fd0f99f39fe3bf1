"""Back-test: what past periods were forecast with set probabilities and with actual win rates, against what was won in the end."""

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.derived import Grown, Grows, derived
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.money import WHOLE_BP, Ints
from wise_tally.core.observed_weight import look_back_of, observed_probabilities, with_probabilities
from wise_tally.core.reference_data import OPEN, WON

# Those of four quarters for ten scopes.
CACHED_LOOKS = 120
CHECKPOINTS = ("at its start", "after a third", "after two thirds")


@dataclass(frozen=True)
class Guess:
    """What a past period's weighted figure was on a day, in minor units, against what was won in it in the end."""

    period: Period
    on: date
    words: str
    as_set: int
    as_observed: int
    won: int

    def off_by(self, side: str) -> int:
        """The guess of `as_set` or `as_observed` less what was won, in minor units."""
        guess: int = getattr(self, side)
        return guess - self.won


@dataclass(frozen=True)
class StageScore:
    """Of a stage's open deals at the checkpoints, decided since: how many, and the Brier score both ways (0 is best)."""

    stage: int
    deals: int
    as_set: float
    as_observed: float


@dataclass(frozen=True)
class BackTest:
    """All guesses, and how well the probabilities of each stage foretold the outcomes."""

    guesses: tuple[Guess, ...]
    scores: tuple[StageScore, ...]

    def bias(self, side: str) -> float | None:
        """Mean of guess − won over all checkpoints, in minor units, of `as_set` or `as_observed`; None without any."""
        errors = [guess.off_by(side) for guess in self.guesses]
        return sum(errors) / len(errors) if errors else None

    def error(self, side: str) -> float | None:
        """Mean absolute error, in minor units."""
        errors = [abs(guess.off_by(side)) for guess in self.guesses]
        return sum(errors) / len(errors) if errors else None


def checkpoints(period: Period) -> tuple[date, ...]:
    """The evening before the period, and the ends of its first and second third."""
    return tuple(period.starts_on + timedelta(days=period.days * part // 3 - 1) for part in range(3))


@derived(Grows.CARRIED)
def back_test(book: Book, snapshot: BookAsOf, periods: tuple[Period, ...], scope: Filter) -> BackTest:
    """Each past period at its checkpoints, with the probabilities set and the win rates known by then, never later data.

    Deals are scored where they are decided on the day of `snapshot`.
    Source: common practice; the score is that of G. W. Brier, Monthly Weather Review 78 (1950), 1–3.
    """
    guesses, stages, chances, outcomes = [], [], [], []
    for period in periods:
        won = int(forecast_lines(book, snapshot, period, scope, "company").value_minor("won").sum())
        for words, on in zip(CHECKPOINTS, checkpoints(period), strict=True):
            then = _look(book, period, on, scope)
            guesses.append(Guess(period, on, words, then.as_set, then.as_observed, won))
            index = np.searchsorted(snapshot.deal, then.deal)
            decided = snapshot.kind[index] != OPEN
            stages.append(then.stage[decided])
            chances.append(then.chances[:, decided])
            outcomes.append(snapshot.kind[index[decided]] == WON)
    return BackTest(tuple(guesses), _scores(stages, chances, outcomes))


@dataclass(frozen=True)
class _Look:
    """What a checkpoint saw: both weighted figures, and the open counted deals due with stage and chance both ways."""

    as_set: int
    as_observed: int
    deal: Ints
    stage: Ints
    chances: Ints


def unchanged_before(grown: Grown, on: date, scope: Filter) -> bool:
    """Whether a look at a past day holds: no revision came or went before its end, and none of the small tables changed."""
    old, new, growth = grown.old, grown.new, grown.growth
    same = growth.same_known and (not scope.only or old.attributes is new.attributes)
    return bool(same and (growth.moments >= midnight_ending(on, new.reference.time_zone)).all())


def _untouched(look: _Look, grown: Grown, _: Period, on: date, scope: Filter) -> _Look | None:
    return look if unchanged_before(grown, on, scope) else None


@derived(_untouched, most=CACHED_LOOKS)
def _look(book: Book, period: Period, on: date, scope: Filter) -> _Look:
    due, decided = _stood(book, period, on)
    observed = with_probabilities(due, observed_probabilities(book, decided, period))
    lines = [forecast_lines(book, one, period, scope, "company") for one in (due, observed)]
    as_set, as_observed = (int(one.value_minor("weighted").sum()) for one in lines)
    rows = np.unique(lines[0].lines.rows[lines[0].counts("open")])
    chances = np.stack([one.probability_bp[rows] for one in (due, observed)])
    return _Look(as_set, as_observed, due.deal[rows], due.stage[rows], chances)


def _stood(book: Book, period: Period, on: date) -> tuple[BookAsOf, BookAsOf]:
    """The book as it stood on a day: the deals that can fall in the period, and those decided since the look-back began.

    A back-test looks at many days; what no figure of a day can count is not worked out.
    """
    rows, rev = book.rows_on(on), book.revisions
    is_open = book.reference.stage_kind[rev.stage[rows]] == OPEN
    closed = rows[~is_open]
    closed_at = rev.effective_at[book.entered_row(closed)]
    evenings = (one - timedelta(days=1) for one in (period.starts_on, look_back_of(period).starts_on))
    then, since = (closed[closed_at >= midnight_ending(evening, book.reference.time_zone)] for evening in evenings)
    rows = rows[is_open]
    close = rev.expected_close[rows]
    due = rows[(close >= period.starts_on.toordinal()) & (close <= period.ends_on.toordinal())]
    return book.states(on, np.sort(np.r_[due, then])), book.states(on, since)


def _scores(stages: list[np.ndarray], chances: list[np.ndarray], outcomes: list[np.ndarray]) -> tuple[StageScore, ...]:
    if not stages:
        return ()
    stage, chance, won = np.concatenate(stages), np.hstack(chances) / WHOLE_BP, np.concatenate(outcomes)
    scores = []
    for index in np.unique(stage).tolist():
        inside = stage == index
        as_set, as_observed = (brier(side[inside], won[inside]) for side in chance)
        scores.append(StageScore(index, int(inside.sum()), as_set, as_observed))
    return tuple(scores)


def brier(probability: np.ndarray, won: np.ndarray) -> float:
    """Mean squared difference of probability and outcome; arrays of one shape, not empty. Source: Brier (1950)."""
    return float(np.mean((probability - won) ** 2))
