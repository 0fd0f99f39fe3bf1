"""What belongs to deals beside their revisions: attributes to break down by, product lines, margins and payments.

The book holds one; who reads the data gives it one that reads each thing when it is first asked for.
All of it is present value without a history, but for what comes from dated rows, such as invoices.
"""

from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.money import Ints

PRODUCT_GROUP = "product_group"
OWN = "own:"


@dataclass(frozen=True)
class Facet:
    """An attribute of deals: its values with their names, and the index of each deal's value (-1 none), shape (deals,)."""

    keys: tuple[str, ...]
    names: tuple[str, ...]
    of_deal: Ints


@dataclass(frozen=True)
class GroupLines:
    """Product lines added up by deal and product group, sorted so; `group` -1 for none.

    Amounts in minor units, quantities in hundredths.
    """

    groups: tuple[str, ...]
    deal: Ints
    group: Ints
    amount_minor: Ints
    quantity: Ints


@dataclass(frozen=True)
class DealValue:
    """A value of each deal (minor units, or hundredths), 0 where it has none, and whether it has one; shape (deals,)."""

    value_minor: Ints
    known: Ints


class DealAttributes:
    """A book beside which nothing stands."""

    def __init__(self, deals: int = 0) -> None:
        self.deals = deals

    def facet(self, by: str, as_of: date) -> Facet:
        """The attribute `by`: one that breakdowns are made of, or `own:` with the identifier of an own field.

        `as_of` counts for what comes from dated rows. Raises UnknownBreakdown.
        """
        raise UnknownBreakdown(f"“{by}” is no attribute of deals here.")

    def group_lines(self) -> GroupLines:
        """The lines of all deals by product group."""
        nothing = np.zeros(0, dtype=np.int64)
        return GroupLines((), nothing, nothing, nothing, nothing)

    def margin(self) -> DealValue:
        """The margin of each deal: the sum of its lines'; none without lines or where a line has no cost."""
        return DealValue(np.zeros(self.deals, dtype=np.int64), np.zeros(self.deals, dtype=bool))

    def list_value(self) -> DealValue:
        """Quantity × price of each deal's lines before discounts, each line rounded half to even; none without lines."""
        return self.margin()

    def discount(self) -> DealValue:
        """What discounts take off the list value of each deal; none without lines."""
        return self.margin()

    def first_year(self) -> DealValue:
        """Payments due in the twelve months from a deal's first; none without payments."""
        return self.margin()

    def quantity(self) -> DealValue:
        """What each deal sells in all its lines, in hundredths; none without lines."""
        return self.margin()

    def first_due(self) -> Ints:
        """Day ordinal of each deal's first payment, 0 for none; shape (deals,)."""
        return np.zeros(self.deals, dtype=np.int64)


NO_ATTRIBUTES = DealAttributes()
