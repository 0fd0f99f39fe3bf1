"""Money as integers in minor units: rounding, dividing and exact sums.

Probabilities, shares and rates are basis points (hundredths of a percent, 0 to 10 000).
"""

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from wise_tally.core.errors import AmountOverflow

Ints = npt.NDArray[Any]  # int64 throughout
WHOLE_BP = 10_000
EXACT_FLOAT = 1 << 53
HALF_BITS = 26


def divide_half_even(numerator: int, denominator: int) -> int:
    """Quotient rounded half to even. `denominator` > 0. Source: common practice (banker's rounding)."""
    quotient, remainder = divmod(numerator, denominator)
    doubled = 2 * remainder
    if doubled > denominator or (doubled == denominator and quotient % 2):
        return quotient + 1
    return quotient


def divide_half_even_array(numerator: Ints, denominator: Ints | int) -> Ints:
    """Quotients rounded half to even; denominators above 0, shapes as given. Source: common practice."""
    quotient, remainder = np.divmod(numerator, denominator)
    doubled = 2 * remainder
    return quotient + ((doubled > denominator) | ((doubled == denominator) & (quotient % 2 == 1)))


def weighted_minor(amount_minor: Ints, probability_bp: Ints) -> Ints:
    """amount × probability per deal, rounded half to even to the minor unit.

    Both arrays shape (n,), amounts 0 to 10^14 minor units, probabilities 0 to 10 000 basis points.
    Source: weighted value, common practice.
    """
    return divide_half_even_array(amount_minor * probability_bp, WHOLE_BP)


def line_amount(quantity_10000ths: int, unit_price_minor: int, discount_bp: int) -> int:
    """quantity × price less discount, rounded half to even to the minor unit. Source: common practice."""
    return divide_half_even(quantity_10000ths * unit_price_minor * (WHOLE_BP - discount_bp), 10_000 * WHOLE_BP)


def line_margin(quantity_10000ths: int, amount_minor: int, unit_cost_minor: int | None) -> int | None:
    """Amount of a line less quantity × cost (rounded half to even); None without a cost. Source: common practice."""
    if unit_cost_minor is None:
        return None
    return amount_minor - divide_half_even(quantity_10000ths * unit_cost_minor, 10_000)


def line_amounts(quantity_10000ths: Ints, unit_price_minor: Ints, discount_bp: Ints) -> Ints:
    """`line_amount` of many lines, shape (lines,)."""
    columns = (quantity_10000ths, unit_price_minor, discount_bp)
    bound = float(quantity_10000ths.max(initial=0)) * float(unit_price_minor.max(initial=0)) * WHOLE_BP
    if bound < 2.0**62:
        product = quantity_10000ths * unit_price_minor * (WHOLE_BP - discount_bp)
        return divide_half_even_array(product, 10_000 * WHOLE_BP)
    rows = zip(*(column.tolist() for column in columns), strict=True)
    return np.array([line_amount(*row) for row in rows], dtype=np.int64)


def line_costs(quantity_10000ths: Ints, unit_cost_minor: Ints) -> Ints:
    """quantity × cost of many lines, rounded half to even, shape (lines,)."""
    if float(quantity_10000ths.max(initial=0)) * float(unit_cost_minor.max(initial=0)) < 2.0**62:
        return divide_half_even_array(quantity_10000ths * unit_cost_minor, 10_000)
    rows = zip(quantity_10000ths.tolist(), unit_cost_minor.tolist(), strict=True)
    return np.array([divide_half_even(quantity * cost, 10_000) for quantity, cost in rows], dtype=np.int64)


def margins_of_deals(deal: Ints, amount_minor: Ints, cost_minor: Ints, deals: int) -> tuple[Ints, Ints]:
    """Margin of each deal and whether it has one, shape (deals,): the sum of its lines' amounts less costs.

    `deal`, `amount_minor` and `cost_minor` (-1 for none) have shape (lines,). None without lines or where a line has
    no cost. Source: common practice, as `margin_of_lines`.
    """
    lines = np.bincount(deal, minlength=deals)
    lacking = np.bincount(deal[cost_minor < 0], minlength=deals)
    known = (lines > 0) & (lacking == 0)
    return np.where(known, sum_by_group(amount_minor - np.maximum(cost_minor, 0), deal, deals), 0), known


def margin_of_lines(margins: Sequence[int | None]) -> int | None:
    """A deal's margin: the sum of its lines'; None without lines or where a line has no cost. Source: common practice."""
    known = [margin for margin in margins if margin is not None]
    return sum(known) if known and len(known) == len(margins) else None


def apportion(total: int, weights: Sequence[int], identifiers: Sequence[str]) -> list[int]:
    """Divide `total` by `weights` with the largest-remainder (Hamilton) method; the parts sum to `total`.

    Ties go to the larger weight, then to the lower identifier by code point. `total` may be negative.
    All weights 0 divide equally; no weights give no parts.
    Source: Hamilton's method, apportionment of the U.S. House after the 1790 census.
    """
    if not weights:
        return []
    if sum(weights) == 0:
        weights = [1] * len(weights)
    whole = sum(weights)
    parts = [total * weight // whole for weight in weights]
    remainders = [total * weight % whole for weight in weights]
    order = sorted(range(len(weights)), key=lambda i: (-remainders[i], -weights[i], identifiers[i]))
    for i in order[: total - sum(parts)]:
        parts[i] += 1
    return parts


def credited_parts(value_minor: Ints, share_bp: Ints, deal: Ints, person_rank: Ints) -> Ints:
    """Each credit line's part of its deal's whole value, by largest remainder.

    All arrays shape (lines,): the deal's whole value repeated on each of its lines, the line's share
    (a deal's shares sum to 10 000), the deal, and the rank of the person's identifier by code point.
    """
    return _divided(value_minor, share_bp, np.full(len(deal), WHOLE_BP), deal, person_rank)


def divided_parts(value_minor: Ints, weight: Ints, group: Ints, rank: Ints) -> Ints:
    """Each line's part of its group's whole value in proportion to its weight, by largest remainder.

    All arrays shape (lines,), the lines of a group side by side: the group's whole value repeated on each of its
    lines, the line's weight (0 or more; all 0 divide equally), the group (a whole number), and the rank that breaks
    ties. Source: Hamilton's method, as `apportion`.
    """
    if len(group) == 0:
        return value_minor.copy()
    index = np.cumsum(np.r_[0, group[1:] != group[:-1]])
    whole = sum_by_group(weight, index, int(index[-1]) + 1)[index]
    weight, whole = np.where(whole == 0, 1, weight), np.where(whole == 0, np.bincount(index)[index], whole)
    if float(np.abs(value_minor).max()) * float(weight.max()) < 2.0**62:
        return _divided(value_minor, weight, whole, index, rank)
    parts = value_minor.copy()
    for first, last in pairwise([*np.flatnonzero(np.diff(index, prepend=-1)).tolist(), len(index)]):
        ranks = [f"{number:012}" for number in rank[first:last].tolist()]
        parts[first:last] = apportion(int(value_minor[first]), weight[first:last].tolist(), ranks)
    return parts


def _divided(value_minor: Ints, weight: Ints, whole: Ints, group: Ints, rank: Ints) -> Ints:
    """value × weight ÷ whole, what is missing given to the largest remainders of each group."""
    parts, remainder = np.divmod(value_minor * weight, whole)
    order = np.lexsort((rank, -weight, -remainder, group))
    sorted_group = group[order]
    first = np.flatnonzero(np.r_[True, sorted_group[1:] != sorted_group[:-1]])
    sizes = np.diff(np.r_[first, len(group)])
    index = np.arange(len(group)) - np.repeat(first, sizes)
    missing = np.repeat(np.add.reduceat(remainder[order], first) // whole[order][first], sizes)
    parts[order] += index < missing
    return parts


def sum_by_group(values: Ints, group: npt.NDArray[np.integer], groups: int) -> Ints:
    """Exact sums of integers per group, shape (groups,).

    A float histogram is exact only below 2^53; beyond it the values are summed in two halves.
    Raises AmountOverflow where a sum may leave 64-bit integers.
    """
    if len(values) == 0:
        return np.zeros(groups, dtype=np.int64)
    bound = float(np.abs(values).max()) * len(values)
    if bound < EXACT_FLOAT:
        return np.bincount(group, weights=values, minlength=groups).astype(np.int64)
    if float(np.abs(values.astype(np.float64)).sum()) >= 2.0**62:
        raise AmountOverflow("The amounts add up to more than 4.6 × 10^18 minor units; smaller amounts are accepted.")
    low = values & ((1 << HALF_BITS) - 1)
    high = values >> HALF_BITS
    low_sums = np.bincount(group, weights=low, minlength=groups).astype(np.int64)
    high_sums = np.bincount(group, weights=high, minlength=groups).astype(np.int64)
    return (high_sums << HALF_BITS) + low_sums


def ratio(part: int, whole: int | None) -> float | None:
    """part ÷ whole; None where the whole is None or 0."""
    return None if not whole else part / whole
