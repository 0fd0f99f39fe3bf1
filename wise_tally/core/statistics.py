"""Wilson intervals and Kaplan–Meier curves."""

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Flags
from wise_tally.core.money import Ints

Floats = npt.NDArray[np.float64]
Z_95 = 1.959963984540054
DAY_SECONDS = 86_400
QUANTILE_SLACK = 1e-12
ENOUGH_WITH_HISTORY = 20


@dataclass(frozen=True)
class Interval:
    """A two-sided 95 % interval of a rate, 0 to 1."""

    low: float
    high: float


def wilson_bounds(successes: Ints, trials: Ints, z: float = Z_95) -> tuple[Floats, Floats]:
    """Bounds of the Wilson score interval, two-sided 95 % unless `z` says otherwise; NaN without trials or with more successes than trials.

    Source: E. B. Wilson, Journal of the American Statistical Association 22 (1927), 209–212.
    """
    known = (trials > 0) & (successes <= trials)
    n = np.where(known, trials, 1)
    rate, z2 = np.where(known, successes / n, np.nan), z * z
    centre = rate + z2 / (2 * n)
    margin = z * np.sqrt(np.where(known, rate * (1 - rate) / n, 0.0) + z2 / (4 * n * n))
    scale = 1 + z2 / n
    return np.maximum(0.0, (centre - margin) / scale), np.minimum(1.0, (centre + margin) / scale)


def wilson(successes: int, trials: int, z: float = Z_95) -> Interval | None:
    """The interval of one rate; None without trials or with more successes than trials."""
    return wilson_of_many(np.array([successes]), np.array([trials]), z)[0]


def wilson_of_many(successes: Ints, trials: Ints, z: float = Z_95) -> list[Interval | None]:
    """The intervals of many rates, shapes (n,)."""
    low, high = wilson_bounds(successes, trials, z)
    return [
        None if math.isnan(one) else Interval(one, other)
        for one, other in zip(low.tolist(), high.tolist(), strict=True)
    ]


@dataclass(frozen=True)
class Curve:
    """A Kaplan–Meier curve: survival after each duration (days, ascending)."""

    days: np.ndarray
    survival: np.ndarray

    def quantile(self, q: float) -> float | None:
        """The smallest t with S(t) ≤ 1 − q (within 1e-12); None where the curve does not come down that far."""
        # Survival never rises, so the first place at or below the level is found by bisection.
        index = int(np.searchsorted(-self.survival, -(1 - q + QUANTILE_SLACK)))
        return float(self.days[index]) if index < len(self.days) else None

    def leaving(self, edges: Floats) -> Floats:
        """The share that leaves between edges that rise (days), shape (edges − 1,): S at the lower less S at the upper.

        What leaves exactly at an edge belongs to the stretch below it.
        """
        before = np.searchsorted(self.days, edges, side="right")
        return -np.diff(np.concatenate([[1.0], self.survival])[before])


def kaplan_meier(seconds: Ints, ended: Flags) -> Curve:
    """Product-limit estimate of stays that are sorted, events before censorings at equal times. Shapes (n,).

    Source: E. L. Kaplan and P. Meier, Journal of the American Statistical Association 53 (1958), 457–481.
    """
    at_risk = np.arange(len(seconds), 0, -1)
    steps = np.where(ended, (at_risk - 1) / at_risk, 1.0)
    return Curve(seconds / DAY_SECONDS, np.cumprod(steps))
