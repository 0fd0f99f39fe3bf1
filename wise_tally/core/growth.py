"""A book grown by new revisions: what was derived from the old book is taken over, only what they touch is computed anew."""

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from wise_tally.core.book import FOR_EVER, Book, Revisions, Standing
from wise_tally.core.money import Ints

FEW = 64
# A kept standing is the plain one: what stands behind these is another measure or day.
STATE_FIELDS = [field.name for field in fields(Standing)].index("measure")


@dataclass(frozen=True)
class Growth:
    """Added revisions by their rows in the grown book, and the places of the old book before which they came."""

    at: Ints
    rows: Ints

    def moved(self, old_rows: Ints) -> Ints:
        """Rows of the grown book that were `old_rows` of the old one."""
        return old_rows + np.searchsorted(self.at, old_rows, side="right")


def with_added(revisions: Revisions, added: Revisions) -> tuple[Revisions, Growth]:
    """Old revisions with `added` (sorted by deal, then order) each after the last of its deal."""
    at = np.searchsorted(revisions.deal, added.deal, side="right")
    if len(at) == 0:
        return revisions, Growth(at, at)
    names = [field.name for field in fields(Revisions)]
    merged = Revisions(*(_spliced(getattr(revisions, name), at, getattr(added, name)) for name in names))
    return merged, Growth(at, at + np.arange(len(at)))


def _spliced(column: Any, at: Ints, values: Any) -> Any:
    """`np.insert`; a few rows come in by copying slices, which is several times faster."""
    if len(at) > FEW:
        return np.insert(column, at, values)
    pieces, done = [], 0
    for row, value in zip(at.tolist(), values, strict=True):
        pieces += [column[done:row], [value]]
        done = row
    return np.concatenate([*pieces, column[done:]], dtype=column.dtype)


def take_over(old: Book, new: Book, growth: Growth) -> None:
    """Give `new` what `old` had derived from its revisions, mended where rows were added."""
    nothing = np.zeros(len(growth.at), dtype=np.int64)
    if "effective_to" in old.__dict__:
        ends = _spliced(old.effective_to, growth.at, nothing)
        touched = np.unique(np.r_[growth.rows, growth.rows - 1])
        touched = touched[touched >= 0]
        following = np.minimum(touched + 1, len(ends) - 1)
        rev = new.revisions
        same = (rev.deal[following] == rev.deal[touched]) & (following > touched)
        ends[touched] = np.where(same, rev.effective_at[following], FOR_EVER)
        new.__dict__["effective_to"] = ends
    if "entered_row" in old.__dict__:
        new.__dict__["entered_row"] = _entered(old, new, growth)
    if "created_on" in old.__dict__ and len(old.deals.key) == len(new.deals.key):
        new.__dict__["created_on"] = old.created_on


def _entered(old: Book, new: Book, growth: Growth) -> Any:
    # Rows come in after the last of their deal, so a row and the one it was entered with move by the same count.
    moved = old.entered_row.copy()
    for row in growth.at.tolist():
        moved[row:] += 1
    entered = _spliced(moved, growth.at, growth.rows)
    rev = new.revisions
    for row in growth.rows.tolist():
        if row and rev.deal[row] == rev.deal[row - 1] and rev.stage[row] == rev.stage[row - 1]:
            entered[row] = entered[row - 1]
    return entered


def carried(standing: Standing, new: Book, growth: Growth) -> Standing | None:
    """A standing of the old book for the grown one of the same deals, ground and credits.

    Only deals with a revision added before the standing's cut get a new state; None where one of them was not there.
    """
    rev = new.revisions
    row = growth.moved(standing.row)
    in_time = growth.rows[rev.effective_at[growth.rows] < standing.cut]
    if len(in_time) == 0:
        same = replace(standing, row=row)
        for name in ("memo", "weighted_minor"):
            if name in standing.__dict__:
                same.__dict__[name] = standing.__dict__[name]
        return same
    deals, first_from_end = np.unique(rev.deal[in_time][::-1], return_index=True)
    last = in_time[::-1][first_from_end]
    places = np.searchsorted(standing.deal, deals)
    if (places >= len(standing.deal)).any() or (standing.deal[places] != deals).any():
        return None
    fresh = new.states(standing.as_of, last)
    columns: dict[str, Any] = {}
    for field in fields(Standing)[2:STATE_FIELDS]:
        column = (row if field.name == "row" else getattr(standing, field.name)).copy()
        column[places] = getattr(fresh, field.name)
        columns[field.name] = column
    return replace(standing, **columns)
