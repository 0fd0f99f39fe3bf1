"""What changed between two days: the deals whose part of a figure moved, adding up exactly to the difference."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints


@dataclass(frozen=True)
class Moved:
    """A deal's part of the figure on both days, in minor units."""

    deal: int
    before_minor: int
    after_minor: int

    @property
    def change_minor(self) -> int:
        """after − before."""
        return self.after_minor - self.before_minor


@dataclass(frozen=True)
class Changes:
    """The figure on both days and the deals that moved it, the largest change first."""

    before_minor: int
    after_minor: int
    moved: tuple[Moved, ...]

    @property
    def change_minor(self) -> int:
        """after − before; the sum of the deals' changes."""
        return self.after_minor - self.before_minor


def changes(book: Book, before: BookAsOf, after: BookAsOf, period: Period, scope: Filter, figure: str) -> Changes:
    """Deals whose part of `figure` differs between two days of the same scope. Source: common practice."""
    then = _parts(book, before, period, scope, figure)
    now = _parts(book, after, period, scope, figure)
    different = np.flatnonzero(then != now)
    order = different[np.argsort(-np.abs(now - then)[different], kind="stable")]
    moved = tuple(Moved(int(deal), int(then[deal]), int(now[deal])) for deal in order)
    return Changes(int(then.sum()), int(now.sum()), moved)


def _parts(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, figure: str) -> Ints:
    lines = forecast_lines(book, snapshot, period, scope, "company")
    parts = np.zeros(len(book.deals.key), dtype=np.int64)
    np.add.at(parts, snapshot.deal[lines.lines.rows], lines.value_minor(figure))
    return parts
