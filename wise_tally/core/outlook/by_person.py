"""How past periods were expected for each person, after their first third, and what each won."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from wise_tally.core.backtest import CACHED_LOOKS, checkpoints, unchanged_before
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grown, derived
from wise_tally.core.forecast import calls_of_rows, forecast, forecast_lines, lines_of_periods
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.outlook.back_test import HIGH, LOW, SUBMITTED
from wise_tally.core.outlook.distribution import outcome_of
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW
from wise_tally.core.outlook.rows import days_ahead, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.still_to_come import run_rate

AFTER_A_THIRD = 1
Guess = TypeVar("Guess")


@dataclass(frozen=True)
class PersonGuess:
    """What a person's period was expected to bring, by method in minor units, what was won by then, and the outlook's range of
    eight in ten.
    """

    won: int
    means: dict[str, int]
    low: int
    high: int


@dataclass(frozen=True)
class PersonScore:
    """Of a person's past periods: by method error and bias as shares of what was won (None without any), and how many of
    `periods` ended within the outlook's range.
    """

    error: dict[str, float | None]
    bias: dict[str, float | None]
    within: int
    periods: int


def _untouched(guesses: dict[int, Guess], grown: Grown, period: Period, scope: Filter) -> dict[int, Guess] | None:
    return guesses if unchanged_before(grown, period.ends_on, scope) else None


@derived(_untouched, most=CACHED_LOOKS)
def _expected(book: Book, period: Period, scope: Filter) -> dict[int, PersonGuess]:
    """Each person of the scope with deals or wins in the period, as it was known after its first third."""
    snapshot = book.looked_back(checkpoints(period)[AFTER_A_THIRD])
    whole = of_deals(book, snapshot, period)
    if whole.until.decided.max(initial=0) < ENOUGH_TO_SHOW:
        return {}
    lines = forecast_lines(book, snapshot, period, scope, "person")
    call = calls_of_rows(book, snapshot, period, scope, "person")
    rate = run_rate(book, snapshot.cut, days_ahead(snapshot, period)[1])
    guesses = {}
    for row in forecast(book, snapshot, period, scope, "person"):
        inside = lines.node == row.node
        if not inside.any():
            continue
        stake = stakes_of(book, lines, whole, inside)
        outcome = outcome_of(stake.may_be_won)
        means = {"weighted": row.weighted, "outlook": outcome.mean_minor}
        means["run_rate"] = row.won + round(rate.shared(stake.share).mean_minor)
        submitted = call(row.node)
        means |= {} if submitted is None else {SUBMITTED: submitted}
        guesses[row.node] = PersonGuess(row.won, means, outcome.quantile(LOW), outcome.quantile(HIGH))
    return guesses


@derived(_untouched, most=CACHED_LOOKS)
def _submitted(book: Book, period: Period, scope: Filter) -> dict[int, tuple[int, int, int]]:
    """Of each person with deals who submitted after the period's first third: won by then, outlook and submitted amount, in
    minor units. Ranges, which take the distribution of each person, are left out.
    """
    snapshot = book.looked_back(checkpoints(period)[AFTER_A_THIRD])
    if of_deals(book, snapshot, period).until.decided.max(initial=0) < ENOUGH_TO_SHOW:
        return {}
    with_deals = np.unique(forecast_lines(book, snapshot, period, scope, "person").node)
    rows = outlook_rows(book, snapshot, period, scope, "person")
    call = calls_of_rows(book, snapshot, period, scope, "person")
    submitted = {person: call(person) for person in with_deals[with_deals >= 0].tolist()}
    return {
        person: (rows[person].won, rows[person].mean, amount)
        for person, amount in submitted.items()
        if amount is not None
    }


def submitted_in_the_past(
    book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter
) -> list[tuple[int, int, int]]:
    """(outlook, submitted, came) of each person and past period, in minor units, each less what was won when it was submitted."""
    pairs = []
    for period, came in zip(periods, _won_by_person(book, snapshot, periods, scope), strict=True):
        for person, (won, outlook, submitted) in _submitted(book, period, scope).items():
            pairs.append((outlook - won, submitted - won, int(came[person]) - won))
    return pairs


def _won_by_person(book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter) -> Iterator[Ints]:
    for lines in lines_of_periods(book, snapshot, periods, scope, "person"):
        yield sum_by_group(lines.value_minor("won"), lines.node, len(book.reference.people))


def people_test(book: Book, snapshot: BookAsOf, periods: Sequence[Period], scope: Filter) -> dict[int, PersonScore]:
    """How each person's past periods came out against what was expected, by person."""
    looks: dict[int, list[tuple[PersonGuess, int]]] = {}
    for period, won in zip(periods, _won_by_person(book, snapshot, periods, scope), strict=True):
        for person, guess in _expected(book, period, scope).items():
            if person >= 0:
                looks.setdefault(person, []).append((guess, int(won[person])))
    return {person: _score(guesses) for person, guesses in looks.items()}


def _score(looks: list[tuple[PersonGuess, int]]) -> PersonScore:
    error: dict[str, float | None] = {}
    bias: dict[str, float | None] = {}
    for method in ("weighted", SUBMITTED, "run_rate", "outlook"):
        pairs = np.array([(guess.means[method], won) for guess, won in looks if method in guess.means], dtype=float)
        won = pairs[:, 1].sum() if len(pairs) else 0.0
        missed = pairs[:, 0] - pairs[:, 1] if won else np.zeros(0)
        error[method] = float(np.abs(missed).sum() / won) if won else None
        bias[method] = float(missed.sum() / won) if won else None
    return PersonScore(error, bias, sum(guess.low <= won <= guess.high for guess, won in looks), len(looks))
