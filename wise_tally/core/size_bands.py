"""Size bands: deals grouped by the quartiles of their amounts in the scope."""

from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.deal_attributes import DealAttributes, DealValue, Facet, GroupLines
from wise_tally.core.lines import Filter, owner_filtered
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE

SIZE = "size"
NAMES = ("smallest quarter", "second quarter", "third quarter", "largest quarter")
QUARTILES = (0.25, 0.5, 0.75)


class _Banded(DealAttributes):
    """What stands beside a book, and the size bands."""

    def __init__(self, attributes: DealAttributes, bands: Facet) -> None:
        super().__init__(attributes.deals)
        self.attributes, self.bands = attributes, bands

    def facet(self, by: str, as_of: date) -> Facet:
        """The size bands, else what the book has."""
        return self.bands if by == SIZE else self.attributes.facet(by, as_of)

    def group_lines(self) -> GroupLines:
        """As the book has them."""
        return self.attributes.group_lines()

    def margin(self) -> DealValue:
        """As the book has it."""
        return self.attributes.margin()


def edges(book: Book, snapshot: BookAsOf, scope: Filter) -> Ints:
    """The three amounts that part the deals of the scope into quarters, in minor units."""
    amount = snapshot.amount_minor[owner_filtered(book, snapshot, scope)]
    return np.quantile(amount, QUARTILES, method="lower") if len(amount) else np.zeros(3, dtype=np.int64)


def with_size_bands(book: Book, snapshot: BookAsOf, scope: Filter) -> Book:
    """The book with the breakdown SIZE; an amount that equals an edge belongs to the band below it.

    Source: quartiles, common practice.
    """
    of_deal = np.full(len(book.deals.key), NONE, dtype=np.int64)
    of_deal[snapshot.deal] = np.searchsorted(edges(book, snapshot, scope), snapshot.amount_minor, side="left")
    return book.with_attributes(_Banded(book.attributes, Facet(NAMES, NAMES, of_deal)))
