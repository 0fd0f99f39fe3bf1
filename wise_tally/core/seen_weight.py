"""Forecasting with win rates as seen instead of probabilities as set."""

from dataclasses import dataclass, replace
from datetime import timedelta

import numpy as np

from wise_tally.core.book import Book, Standing, with_rows_moved
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import forecast
from wise_tally.core.ground import OPEN
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints
from wise_tally.core.same_days import year_before
from wise_tally.core.seen import set_and_seen
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY


@dataclass(frozen=True)
class SeenProbabilities:
    """What each stage is weighed with, in basis points, shape (stages,); stages that keep the set one; the look-back."""

    probability_bp: Ints
    kept_set: frozenset[int]
    look_back: Period


def look_back_of(period: Period) -> Period:
    """The four quarters before a period: the twelve months up to the day before it begins."""
    first, last = year_before(period.starts_on), period.starts_on - timedelta(days=1)
    return Period(first, last, "span", f"{first}/{last}")


@derived(Grows.KEPT)
def seen_probabilities(book: Book, standing: Standing, period: Period) -> SeenProbabilities:
    """The win rate seen in the look-back for each open stage of every process; never from later than the as-of day.

    A stage with fewer than 20 decided deals keeps its set probability. Rates round half to even to the basis point.
    Source: own definition; see the rules of computation.
    """
    window = look_back_of(period)
    rules = book.ground.rules_on(standing.as_of)
    probability = np.array([rule.probability_bp for rule in rules], dtype=np.int64)
    kept = set()
    for rate in set_and_seen(book, standing, window, Filter())[0].stages:
        if rate.seen_bp is None or rate.decided < ENOUGH_WITH_HISTORY:
            kept.add(rate.stage)
        else:
            probability[rate.stage] = rate.seen_bp
    return SeenProbabilities(probability, frozenset(kept), window)


def seen_of_deals(book: Book, standing: Standing, period: Period) -> Ints:
    """The probability of each deal by what was seen of its stage, in basis points; closed ones keep theirs."""
    return _weighed(standing, seen_probabilities(book, standing, period))


def _weighed(standing: Standing, seen: SeenProbabilities) -> Ints:
    return np.where(standing.kind == OPEN, seen.probability_bp[standing.stage], standing.probability_bp)


def with_probabilities(standing: Standing, seen: SeenProbabilities) -> Standing:
    """The standing with open deals weighed by what was seen of their stage; a deal's own probability is ignored."""
    return replace(standing, probability_bp=_weighed(standing, seen))


@derived(with_rows_moved)
def seen_standing(book: Book, standing: Standing, period: Period) -> Standing:
    """The standing weighed by what it had itself seen before the period."""
    return with_probabilities(standing, seen_probabilities(book, standing, period))


def weighted_by_seen(book: Book, standing: Standing, period: Period, scope: Filter, by: str) -> dict[int, int]:
    """won + weighted open by seen rates, of every node of `by` that `forecast` has a row for."""
    rows = forecast(book, seen_standing(book, standing, period), period, scope, by)
    return {row.node: row.weighted for row in rows}
