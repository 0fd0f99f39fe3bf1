"""Forecasting with actual win rates instead of set probabilities."""

from dataclasses import dataclass, replace
from datetime import timedelta

import numpy as np

from wise_tally.core.book import Book, BookAsOf, with_rows_moved
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.reference_data import OPEN
from wise_tally.core.same_days import year_before
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY


@dataclass(frozen=True)
class ObservedProbabilities:
    """What each stage is weighed with, in basis points, shape (stages,); stages that keep the set one; the look-back."""

    probability_bp: Ints
    stages_as_set: frozenset[int]
    look_back: Period


def look_back_of(period: Period) -> Period:
    """The four quarters before a period: the twelve months up to the day before it begins."""
    first, last = year_before(period.starts_on), period.starts_on - timedelta(days=1)
    return Period(first, last, "span", f"{first}/{last}")


@derived(Grows.CARRIED)
def observed_probabilities(book: Book, snapshot: BookAsOf, period: Period) -> ObservedProbabilities:
    """The actual win rate of the look-back for each open stage of every process; never from later than the as-of day.

    A stage with fewer than 20 closed deals keeps its set probability. Rates round half to even to the basis point.
    Source: own definition; see the rules of computation.
    """
    window = look_back_of(period)
    rules = book.reference.rules_on(snapshot.as_of)
    probability = np.array([rule.probability_bp for rule in rules], dtype=np.int64)
    stages_as_set = set()
    for rate in probability_check(book, snapshot, window, Filter())[0].stages:
        if rate.observed_bp is None or rate.decided < ENOUGH_WITH_HISTORY:
            stages_as_set.add(rate.stage)
        else:
            probability[rate.stage] = rate.observed_bp
    return ObservedProbabilities(probability, frozenset(stages_as_set), window)


def observed_of_deals(book: Book, snapshot: BookAsOf, period: Period) -> Ints:
    """The probability of each deal by the actual win rate of its stage, in basis points; closed ones keep theirs."""
    return _weighed(snapshot, observed_probabilities(book, snapshot, period))


def _weighed(snapshot: BookAsOf, observed: ObservedProbabilities) -> Ints:
    return np.where(snapshot.kind == OPEN, observed.probability_bp[snapshot.stage], snapshot.probability_bp)


def with_probabilities(snapshot: BookAsOf, observed: ObservedProbabilities) -> BookAsOf:
    """The snapshot with open deals weighed by the actual win rate of their stage; a deal's own probability is ignored."""
    return replace(snapshot, probability_bp=_weighed(snapshot, observed))


@derived(with_rows_moved)
def observed_snapshot(book: Book, snapshot: BookAsOf, period: Period) -> BookAsOf:
    """The snapshot weighed by the actual win rates that it knew before the period."""
    return with_probabilities(snapshot, observed_probabilities(book, snapshot, period))


def weighted_by_observed(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str) -> dict[int, int]:
    """won + weighted open at actual win rates, of every node of `by` that `forecast` has a row for."""
    rows = forecast(book, observed_snapshot(book, snapshot, period), period, scope, by)
    return {row.node: row.weighted for row in rows}
