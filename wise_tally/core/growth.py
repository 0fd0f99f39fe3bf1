"""A book grown by new revisions."""

from dataclasses import fields

import numpy as np

from wise_tally.core.book import Book, Revisions, spliced
from wise_tally.core.derived import Grown, Growth


def with_added(revisions: Revisions, added: Revisions) -> tuple[Revisions, Growth]:
    """Old revisions with `added` (sorted by deal, then order) each after the last of its deal."""
    rows = np.searchsorted(revisions.deal, added.deal, side="right")
    if len(rows) == 0:
        return revisions, Growth(rows, rows)
    names = [field.name for field in fields(Revisions)]
    merged = Revisions(*(spliced(getattr(revisions, name), rows, getattr(added, name)) for name in names))
    return merged, Growth(rows, rows + np.arange(len(rows)))


def take_over(old: Book, new: Book, growth: Growth) -> None:
    """Give `new` what was derived from `old` and still holds, as each value was declared."""
    same = all(getattr(new, name) is getattr(old, name) for name in ("reference", "deals", "credits", "attributes"))
    new.cache.grow_from(old.cache, Grown(old, new, Growth(growth.at, growth.rows, same)))
