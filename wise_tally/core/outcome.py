"""Outcome range: won plus the sum of independent yes/no outcomes of open counted deals, as an exact distribution."""

from collections.abc import Sequence
from dataclasses import dataclass
from math import gcd

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import ForecastLines, forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.money import WHOLE_BP, Ints, divide_half_even, divide_half_even_array, sum_by_group

MOST_CELLS = 100_000
DIRECT_CELLS, DIRECT_DEALS = 4_096, 40
SLACK = 1e-12


@dataclass(frozen=True)
class Outcome:
    """Probability of each total `won_minor + i × step_minor`; the deals' independence is assumed."""

    won_minor: int
    step_minor: int
    probability: np.ndarray
    mean_minor: int

    def quantile(self, q: float) -> int:
        """The smallest x with P(X ≤ x) ≥ q, in minor units."""
        index = int(np.argmax(np.cumsum(self.probability) >= q - SLACK))
        return self.won_minor + index * self.step_minor

    def chance_of(self, quota_minor: int | None) -> float | None:
        """P(X ≥ quota); None without a quota."""
        if quota_minor is None:
            return None
        first = max(0, -((self.won_minor - quota_minor) // self.step_minor))
        return float(min(1.0, self.probability[first:].sum())) if first < len(self.probability) else 0.0


def grid_step(amounts: Ints) -> int:
    """The amounts' greatest common divisor if at most 100 000 cells result, else the smallest 1, 2 or 5 × 10^k that does."""
    positive = [int(a) for a in amounts if a > 0]
    if not positive:
        return 1
    total, divisor = sum(positive), gcd(*positive)
    if total // divisor + 1 <= MOST_CELLS:
        return divisor
    scale = 1
    while True:
        for factor in (1, 2, 5):
            if total // (factor * scale) + 1 <= MOST_CELLS:
                return factor * scale
        scale *= 10


def outcome(won_minor: int, amount_minor: Ints, probability_bp: Ints) -> Outcome:
    """The distribution of won + Σ amount × Bernoulli(probability). Arrays of shape (open deals,).

    Amounts round half to even onto the grid; the mean is exact, rounded to the minor unit. Source: the sum of
    independent Bernoulli variables by convolution, textbook.
    """
    step = grid_step(amount_minor)
    cells = _cells(amount_minor, step)
    pairs = [(size, chance) for size, chance in zip(cells, (probability_bp / WHOLE_BP).tolist(), strict=True) if size]
    return Outcome(won_minor, step, _distribution(sorted(pairs)), _mean(won_minor, amount_minor, probability_bp))


def _distribution(pairs: list[tuple[int, float]]) -> np.ndarray:
    """The distribution of a sum on the grid; large halves are joined by FFT, small ones deal by deal."""
    total = sum(size for size, _ in pairs)
    if total > DIRECT_CELLS and len(pairs) > DIRECT_DEALS:
        left, right = _distribution(pairs[::2]), _distribution(pairs[1::2])
        size = 1 << total.bit_length()
        joined = np.fft.irfft(np.fft.rfft(left, size) * np.fft.rfft(right, size), size)
        return np.maximum(joined[: total + 1], 0.0)
    distribution = np.zeros(total + 1)
    distribution[0], reached = 1.0, 0
    for size, chance in pairs:
        won = distribution[: reached + 1] * chance
        distribution[: reached + 1] *= 1 - chance
        distribution[size : reached + size + 1] += won
        reached += size
    return distribution


@dataclass(frozen=True)
class EitherWay:
    """The whole outcome, and for each deal asked for the chance of quota if it is won and if it is not."""

    whole: Outcome
    chances: tuple[tuple[float | None, float | None], ...]


def outcome_either_way(
    won_minor: int, amount_minor: Ints, probability_bp: Ints, indices: list[int], quota_minor: int | None
) -> EitherWay:
    """The outcome of all deals, and the chance of quota with and without each deal in `places`, on one grid.

    The other deals are joined once; the few asked for are then added one by one.
    """
    step = grid_step(amount_minor)
    cells = _cells(amount_minor, step)
    chance = (probability_bp / WHOLE_BP).tolist()
    wanted = set(indices)
    rest = _distribution(sorted((cells[i], chance[i]) for i in range(len(cells)) if i not in wanted and cells[i]))
    chances = []
    for index in indices:
        distribution = rest
        for other in indices:
            if other != index:
                distribution = _joined(distribution, cells[other], chance[other])
        pair = (won_minor + cells[index] * step, won_minor)
        with_it, without = (Outcome(won, step, distribution, 0).chance_of(quota_minor) for won in pair)
        chances.append((with_it, without))
    for index in indices:
        rest = _joined(rest, cells[index], chance[index])
    return EitherWay(Outcome(won_minor, step, rest, _mean(won_minor, amount_minor, probability_bp)), tuple(chances))


@dataclass(frozen=True)
class Deciding:
    """The largest open counted deals of a period, the most money first: rows of the snapshot, what each would bring in
    minor units, and what becomes of the outcome either way.
    """

    rows: tuple[int, ...]
    amount_minor: tuple[int, ...]
    either_way: EitherWay


@derived(Grows.CARRIED)
def deciding(  # noqa: PLR0913 - what is asked of a page: which deals, against which quota, how many
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, quota_minor: int | None, most: int
) -> Deciding:
    """The `most` largest open deals of the scope with the chance of quota if each is won and if it is not."""
    won, rows, amount = stakes(forecast_lines(book, snapshot, period, scope, by))
    largest = np.argsort(-amount, kind="stable")[:most].tolist()
    either_way = outcome_either_way(won, amount, snapshot.probability_bp[rows], largest, quota_minor)
    return Deciding(tuple(rows[largest].tolist()), tuple(amount[largest].tolist()), either_way)


def _cells(amount_minor: Ints, step: int) -> list[int]:
    """Amounts rounded half to even onto the grid."""
    cells: list[int] = divide_half_even_array(amount_minor, step).tolist()
    return cells


def _mean(won_minor: int, amount_minor: Ints, probability_bp: Ints) -> int:
    """The exact mean, rounded to the minor unit; Python integers, for the sum may pass 64 bits."""
    exact = sum(a * p for a, p in zip(amount_minor.tolist(), probability_bp.tolist(), strict=True))
    return won_minor + divide_half_even(exact, WHOLE_BP)


def _joined(distribution: np.ndarray, size: int, chance: float) -> np.ndarray:
    joined = np.zeros(len(distribution) + size)
    joined[: len(distribution)] = distribution * (1 - chance)
    joined[size:] += distribution * chance
    return joined


def outcome_of_lines(lines: ForecastLines, inside: Flags | None = None) -> Outcome:
    """The outcome of the lines given (of those `inside`): won as it is, open counted ones by their probability."""
    won_minor, rows, amount = stakes(lines, inside)
    return outcome(won_minor, amount, lines.lines.snapshot.probability_bp[rows])


def with_and_without(outcome: Outcome, amount_minor: int, probability_bp: int) -> tuple[int, int]:
    """The mean outcome if one of its open deals is not won, and if it is, in minor units."""
    without = outcome.mean_minor - divide_half_even(amount_minor * probability_bp, WHOLE_BP)
    return without, without + amount_minor


def likely_by_day(lines: ForecastLines, days: Sequence[int]) -> tuple[tuple[int, int, int], ...]:
    """Where won may stand at the end of each day (ordinals): P10, P50 and P90 in minor units.

    Won so far plus the open deals of the period expected to close by that day, each won with its probability.
    """
    close, is_open = lines.lines.snapshot.expected_close[lines.lines.rows], lines.counts("open")
    outcomes = [outcome_of_lines(lines, ~is_open | (close <= day)) for day in days]
    return tuple((outcome.quantile(0.1), outcome.quantile(0.5), outcome.quantile(0.9)) for outcome in outcomes)


def stakes(lines: ForecastLines, inside: Flags | None = None) -> tuple[int, Ints, Ints]:
    """What is won (minor units), and the open counted deals of the period: rows of the snapshot and what each would bring.

    A deal divided among several people of one node is one outcome with all its parts there.
    """
    still_open, won = lines.counts("open"), lines.value_minor("won")
    if inside is not None:
        still_open, won = still_open & inside, won[inside]
    rows, index = np.unique(lines.lines.rows[still_open], return_inverse=True)
    return int(won.sum()), rows, sum_by_group(lines.amount_minor[still_open], index, len(rows))
