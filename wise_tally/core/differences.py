"""Whether a rate, a size or a frequency differs between two groups by more than chance explains: 99 % intervals of the difference.

Who looks every week sees many differences that chance makes; at 1 % few of them are told.
"""

import math
from statistics import NormalDist

import numpy as np

from wise_tally.core.money import Ints
from wise_tally.core.statistics import Floats, Interval, wilson, wilson_bounds

ENOUGH = 20
ERROR = 0.01
Z_99 = NormalDist().inv_cdf(1 - ERROR / 2)


def differences_of_rates(first: tuple[Ints, Ints], second: tuple[Ints, Ints], compared: int) -> tuple[Floats, Floats]:
    """Bounds of p₁ − p₂ of many pairs, each group (successes, trials), shapes (n,); NaN where a group has no trial.

    Of several differences `compared` at once each gets its part of the 1 % (Bonferroni), so that one is rarely off by chance.
    Source: R. G. Newcombe, Statistics in Medicine 17 (1998), 873–890, method 10 (square-and-add of Wilson's bounds).
    """
    z = NormalDist().inv_cdf(1 - ERROR / 2 / max(compared, 1))
    (low, high), (low_too, high_too) = wilson_bounds(*first, z), wilson_bounds(*second, z)
    p, q = (won / np.maximum(trials, 1) for won, trials in (first, second))
    return p - q - np.hypot(p - low, high_too - q), p - q + np.hypot(high - p, q - low_too)


def difference_of_rates(first: tuple[int, int], second: tuple[int, int], compared: int = 1) -> Interval | None:
    """The interval of one difference; None where a group has no trial."""
    one, other = ((np.array([won]), np.array([trials])) for won, trials in (first, second))
    low, high = differences_of_rates(one, other, compared)
    return None if np.isnan(low[0]) else Interval(float(low[0]), float(high[0]))


def ratio_of_means(first: Floats, second: Floats) -> Interval | None:
    """The interval of the ratio of two geometric means, values above 0, shapes (n,) and (m,); None below 20 values in either.

    Source: B. L. Welch, Biometrika 34 (1947), 28–35, of the logarithms; amounts and days are skewed.
    """
    if min(len(first), len(second)) < ENOUGH:
        return None
    logs = [np.log(values) for values in (first, second)]
    apart = float(logs[0].mean() - logs[1].mean())
    parts = [float(log.var(ddof=1)) / len(log) for log in logs]
    error = math.sqrt(sum(parts))
    if not error:
        return Interval(math.exp(apart), math.exp(apart))
    freedom = sum(parts) ** 2 / sum(part**2 / (len(one) - 1) for part, one in zip(parts, logs, strict=True))
    reach = students_t(freedom) * error
    return Interval(math.exp(apart - reach), math.exp(apart + reach))


def students_t(freedom: float) -> float:
    """The 99.5 % quantile of Student's t; within 0.001 from 10 degrees of freedom on.

    Source: M. Abramowitz and I. A. Stegun, Handbook of Mathematical Functions (1964), 26.7.5.
    """
    z = Z_99
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + sum(term / freedom**power for power, term in enumerate(terms, 1))


def ratio_of_frequencies(first: tuple[int, float], second: tuple[int, float]) -> Interval | None:
    """The interval of λ₁ ÷ λ₂ of two counts, each with the days it was counted over; None where nothing was counted.

    Given their sum the first count is binomial. Source: J. Przyborowski and H. Wilenski, Biometrika 31 (1940), 313–323,
    with Wilson's bounds of the share.
    """
    share = wilson(first[0], first[0] + second[0], Z_99)
    if share is None or share.high >= 1:
        return None
    scale = second[1] / first[1]
    return Interval(share.low / (1 - share.low) * scale, share.high / (1 - share.high) * scale)
