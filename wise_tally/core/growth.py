"""A book grown by new revisions."""

from dataclasses import fields

import numpy as np

from wise_tally.core.book import Book, Revisions, spliced
from wise_tally.core.derived import Grown, Growth


def with_added(revisions: Revisions, added: Revisions) -> tuple[Revisions, Growth]:
    """Old revisions with `added` (sorted by deal, then order) each after the last of its deal."""
    at = np.searchsorted(revisions.deal, added.deal, side="right")
    if len(at) == 0:
        return revisions, Growth(at, at)
    names = [field.name for field in fields(Revisions)]
    merged = Revisions(*(spliced(getattr(revisions, name), at, getattr(added, name)) for name in names))
    return merged, Growth(at, at + np.arange(len(at)))


def take_over(old: Book, new: Book, growth: Growth) -> None:
    """Give `new` what was derived from `old` and still holds, as each value was declared."""
    same = all(getattr(new, name) is getattr(old, name) for name in ("ground", "deals", "credits", "beside"))
    new.kept.grow_from(old.kept, Grown(old, new, Growth(growth.at, growth.rows, same)))
