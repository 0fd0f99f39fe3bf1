"""Submitted forecast and outlook weighed together, by how each did in past periods. Own definition; a proposal, nobody's word."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import CACHED_ROWS
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.by_person import submitted_in_the_past

LEAST_PAIRS = 8
# Pairs that no correction and no preference weigh.
PRIOR_OF_FACTOR, PRIOR_OF_WEIGHT = 8, 20
LEAST_FACTOR, MOST_FACTOR = 0.3, 2.0


@dataclass(frozen=True)
class Weighing:
    """What past pairs teach: how many there are, by what submitted amounts are multiplied, and their weight beside the outlook."""

    pairs: int
    factor: float
    weight: float

    def of(self, won: int, submitted: int, outlook: int) -> int:
        """Both together, in minor units, what is won so far taken out of both first."""
        rest = self.weight * self.factor * (submitted - won) + (1 - self.weight) * (outlook - won)
        return won + round(rest)


def weighing(pairs: Sequence[tuple[float, float, float]]) -> Weighing:
    """From pairs of (outlook, submitted, came) of finished periods, each less what was won when said; fewer than 8 weigh nothing.

    f = (n·clip(Σcame ÷ Σsubmitted, 0.3, 2) + 8) ÷ (n + 8); w = n ÷ (n + 20) · s_outlook ÷ (s_outlook + s_submitted), s mean squared errors.
    """
    triples = np.asarray(pairs, dtype=float).reshape(-1, 3)
    count = len(triples)
    if count < LEAST_PAIRS:
        return Weighing(count, 1.0, 0.0)
    outlook, submitted, came = triples.T
    ratio = float(np.clip(came.sum() / max(submitted.sum(), 1e-9), LEAST_FACTOR, MOST_FACTOR))
    factor = (count * ratio + PRIOR_OF_FACTOR) / (count + PRIOR_OF_FACTOR)
    off_outlook, off_submitted = ((outlook - came) ** 2).mean(), ((factor * submitted - came) ** 2).mean()
    share = off_outlook / max(off_outlook + off_submitted, 1e-9)
    return Weighing(count, factor, float(count / (count + PRIOR_OF_WEIGHT) * share))


@derived(Grows.CARRIED, most=CACHED_ROWS)
def learnt_weighing(book: Book, snapshot: BookAsOf, periods: tuple[Period, ...], scope: Filter) -> Weighing:
    """The weighing of all people of the scope who submitted after the first third of past periods."""
    return weighing(submitted_in_the_past(book, snapshot, periods, scope))
