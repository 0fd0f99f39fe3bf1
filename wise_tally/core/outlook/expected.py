"""What is expected of a scope, by the outlook or by set or actual probabilities: its distribution, parts and deciding deals."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.money import WHOLE_BP
from wise_tally.core.observed_weight import observed_snapshot
from wise_tally.core.outcome import Outcome, deciding, stakes
from wise_tally.core.outlook.distribution import what_if_won
from wise_tally.core.outlook.rows import of_deals, stakes_of

OUTLOOK, AS_SET, ACTUAL = "outlook", "set", "actual"
WAYS = (OUTLOOK, AS_SET, ACTUAL)
# The figures whose workings explain how each way arrives at its mean and its chance of quota.
CHANCE = {OUTLOOK: "outlook_chance", AS_SET: "chance", ACTUAL: "chance_seen"}
MEAN = {OUTLOOK: "outlook", AS_SET: "weighted", ACTUAL: "seen"}


@dataclass(frozen=True)
class DealAtStake:
    """An open deal (row of the snapshot): what it would bring and adds on average, in minor units, its chance, and the chance of
    quota if it is won and if it is not, None without a quota.
    """

    row: int
    amount_minor: int
    chance: float
    adds_minor: int
    if_won: float | None
    if_lost: float | None

    @property
    def decides(self) -> float:
        """How much of the chance of quota hangs on it."""
        return abs((self.if_won or 0.0) - (self.if_lost or 0.0))


@dataclass(frozen=True)
class Expected:
    """The distribution, and what its mean is built of in minor units: won, open deals by chance, deals still to come (`to_come` of them).

    `open_deals` may still be won, `face_minor` in all; `deals` are those that matter most.
    """

    outcome: Outcome
    won_minor: int
    open_minor: int
    to_come_minor: int
    to_come: float
    open_deals: int
    face_minor: int
    deals: tuple[DealAtStake, ...]

    @property
    def mean_minor(self) -> int:
        """What is won in the end on average."""
        return self.won_minor + self.open_minor + self.to_come_minor


@derived(Grows.CARRIED)
def expected(  # noqa: PLR0913 - what is asked of a page: which deals, in which way, against which quota, how many shown
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, way: str, quota_minor: int | None, most: int
) -> Expected:
    """What is expected of the scope (`by` company, team or person, whichever the scope is) in one of WAYS."""
    selection = (book, snapshot, period, scope, by, quota_minor, most)
    return _by_outlook(*selection) if way == OUTLOOK else _by_probability(*selection, way)


def _by_outlook(  # noqa: PLR0913
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, quota_minor: int | None, most: int
) -> Expected:
    lines, whole = forecast_lines(book, snapshot, period, scope, by), of_deals(book, snapshot, period)
    stake = stakes_of(book, lines, whole)
    amount, chance = stake.may_be_won.amount_minor, stake.may_be_won.chance
    widest = np.argsort(-(amount**2 * chance * (1 - chance)), kind="stable")[:most].tolist()
    outcome, pairs = what_if_won(stake.may_be_won, tuple(widest), quota_minor)
    deals = tuple(
        DealAtStake(
            int(stake.rows[index]),
            round(amount[index]),
            float(chance[index]),
            round(amount[index] * chance[index]),
            *pair,
        )
        for index, pair in zip(widest, pairs, strict=True)
    )
    rank = book.reference.person_rank
    return Expected(
        outcome,
        stake.may_be_won.won_minor,
        int(lines.lines.parts(whole.expected_minor, rank).sum()),
        int(lines.lines.parts(whole.to_come_minor, rank).sum()),
        stake.may_be_won.to_come.number,
        len(stake.rows),
        int(snapshot.amount_minor[stake.rows].sum()),
        tuple(sorted(deals, key=lambda one: -one.decides)),
    )


def _by_probability(  # noqa: PLR0913
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, quota_minor: int | None, most: int, way: str
) -> Expected:
    weighed = observed_snapshot(book, snapshot, period) if way == ACTUAL else snapshot
    decided = deciding(book, weighed, period, scope, by, quota_minor, most)
    won, rows, amount = stakes(forecast_lines(book, weighed, period, scope, by))
    whole = decided.either_way.whole
    deals = []
    for row, minor, pair in zip(decided.rows, decided.amount_minor, decided.either_way.chances, strict=True):
        chance = int(weighed.probability_bp[row]) / WHOLE_BP
        deals.append(DealAtStake(row, minor, chance, round(minor * chance), *pair))
    return Expected(whole, won, whole.mean_minor - won, 0, 0.0, len(rows), int(amount.sum()), tuple(deals))
