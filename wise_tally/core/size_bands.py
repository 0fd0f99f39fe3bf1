"""Size bands: deals told apart by the quartiles of their amounts in the scope."""

import numpy as np

from wise_tally.core.beside import Beside, DealValue, Facet, GroupLines
from wise_tally.core.book import Book, Standing
from wise_tally.core.lines import Filter, owner_kept
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE

SIZE = "size"
NAMES = ("smallest quarter", "second quarter", "third quarter", "largest quarter")
QUARTILES = (0.25, 0.5, 0.75)


class _Banded(Beside):
    """What stands beside a book, and the size bands."""

    def __init__(self, beside: Beside, bands: Facet) -> None:
        super().__init__(beside.deals)
        self.beside, self.bands = beside, bands

    def facet(self, by: str) -> Facet:
        """The size bands, else what the book has."""
        return self.bands if by == SIZE else self.beside.facet(by)

    def group_lines(self) -> GroupLines:
        """As the book has them."""
        return self.beside.group_lines()

    def margin(self) -> DealValue:
        """As the book has it."""
        return self.beside.margin()


def edges(book: Book, standing: Standing, scope: Filter) -> Ints:
    """The three amounts that part the deals of the scope into quarters, in minor units."""
    amount = standing.amount_minor[owner_kept(book, standing, scope)]
    return np.quantile(amount, QUARTILES, method="lower") if len(amount) else np.zeros(3, dtype=np.int64)


def with_size_bands(book: Book, standing: Standing, scope: Filter) -> Book:
    """The book with the breakdown SIZE; an amount that equals an edge belongs to the band below it.

    Source: quartiles, common practice.
    """
    of_deal = np.full(len(book.deals.key), NONE, dtype=np.int64)
    of_deal[standing.deal] = np.searchsorted(edges(book, standing, scope), standing.amount_minor, side="left")
    return book.with_beside(_Banded(book.beside, Facet(NAMES, NAMES, of_deal)))
