"""A book with the numbers of the rows it was read from."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.money import Ints

# Of the book's number in the database, in this order.
COUNTERS = ("number", "ground", "epoch", "beside")
Counters = tuple[int, int, int, int]


@dataclass(frozen=True)
class StoredBook:
    """A frozen book with the counters that it was read at, the row number of each deal, and the last row of revisions."""

    book: Book
    number: int
    reference: int
    epoch: int
    attributes: int
    deal_numbers: Ints
    last_revision: int

    def index_of(self, pk: int) -> int | None:
        """Index of a deal by its row number; None where the book does not hold it."""
        index = int(np.searchsorted(self.deal_numbers, pk))
        return index if index < len(self.deal_numbers) and self.deal_numbers[index] == pk else None


def renumbered(column: Ints, old: tuple[str, ...], new: tuple[str, ...]) -> Ints:
    """Indices into `old` as indices into `new`; -1 where the name is gone."""
    if old == new:
        return column
    index_of = {name: index for index, name in enumerate(new)}
    table = np.array([*(index_of.get(name, -1) for name in old), -1], dtype=np.int64)
    return table[column]
