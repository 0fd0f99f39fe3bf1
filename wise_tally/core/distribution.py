"""Spreading a target: down the year by a season curve, down a tree by weights, in steps, around held parts."""

from collections.abc import Mapping, Sequence

from wise_tally.core.errors import CoreError
from wise_tally.core.money import WHOLE_BP, apportion, divide_half_even

MONTHS = 12


def spread(
    total: int,
    weights: Sequence[int],
    identifiers: Sequence[str],
    step: int = 1,
    fixed: Mapping[int, int] | None = None,
) -> list[int]:
    """Parts of `total` by weight, largest remainder, each a whole number of steps; the parts sum to `total`.

    `total` and `fixed` (values of parts, by place, that stay) are in the metric's smallest unit, `step` too. What
    the steps leave over goes to the largest free part. Raises CoreError where nothing can take what is left.
    Source: Hamilton's method for the division; steps and holds are common practice.
    """
    fixed = dict(fixed or {})
    if not weights:
        raise CoreError("There are no rows below to distribute to. Choose a row with rows below it.")
    if any(weight < 0 for weight in weights):
        raise CoreError("Shares cannot be negative. Enter 0 or more.")
    rest = total - sum(fixed.values())
    free = [index for index in range(len(weights)) if index not in fixed]
    if rest < 0 or (rest and not free):
        raise CoreError(
            "The held cells do not leave what is to be spread: together they hold"
            f" {'more' if rest < 0 else 'less'} than the total. Free a cell, or change the total."
        )
    free_weights = [weights[index] for index in free]
    if free and sum(free_weights) == 0:
        raise CoreError("All shares are 0. Enter at least one share above 0.")
    names = [identifiers[index] for index in free]
    parts = [units * step for units in apportion(rest // step, free_weights, names)]
    if over := rest % step:
        largest = min(range(len(free)), key=lambda i: (-free_weights[i], names[i]))
        parts[largest] += over
    by_node = dict(zip(free, parts, strict=True)) | fixed
    return [by_node[index] for index in range(len(weights))]


def check_curve(months_bp: Sequence[int]) -> None:
    """Raise CoreError unless the curve has twelve shares in basis points that sum to 100 %."""
    if len(months_bp) != MONTHS or any(share < 0 for share in months_bp):
        raise CoreError("A season curve has twelve percentages from 0 to 100, one a month.")
    if sum(months_bp) != WHOLE_BP:
        raise CoreError(f"The months add up to {sum(months_bp) / 100:g} %. They must add up to 100 %.")


def grown(value: int, percent_bp: int) -> int:
    """`value` changed by a percentage (basis points, may be negative), rounded half to even."""
    return divide_half_even(value * (WHOLE_BP + percent_bp), WHOLE_BP)
