"""A book grown by new revisions, with those of its last ones that went."""

from dataclasses import fields, replace

import numpy as np

from wise_tally.core.book import Book, Revisions
from wise_tally.core.derived import Grown, Growth
from wise_tally.core.money import Ints

NO_DEALS = np.zeros(0, dtype=np.int64)
KNOWN = ("short_form", "lost_from", "process", "deal_type", "source", "created_at")
"""What figures read of a deal beside its revisions."""


def with_added(revisions: Revisions, added: Revisions, again: Ints = NO_DEALS) -> tuple[Revisions, Growth]:
    """Old revisions in effect with `added` (sorted by deal, then order), each after those of its deal.

    Of the deals `again` (ascending) `added` holds all that now is; what they no longer have goes. So does a revision that one
    of the same moment follows.
    """
    added = added.in_effect()
    gone, known = _differing(revisions, added, again)
    added = added.take(np.setdiff1d(np.arange(len(added.deal)), known)) if len(known) else added
    gone = np.union1d(gone, _superseded(revisions, added))
    if not len(added.deal) and not len(gone):
        return revisions, Growth(NO_DEALS, NO_DEALS, NO_DEALS)
    places = np.searchsorted(revisions.deal, added.deal, side="right")
    rows = places + np.arange(len(places)) - np.searchsorted(gone, places)
    growth = Growth(rows, gone, np.r_[added.effective_at, revisions.effective_at[gone]])
    names = [field.name for field in fields(Revisions)]
    return Revisions(*(growth.spliced(getattr(revisions, name), getattr(added, name)) for name in names)), growth


def _differing(old: Revisions, added: Revisions, again: Ints) -> tuple[Ints, Ints]:
    """Of deals read again, the old rows that are no longer so, and the rows of `added` that were known."""
    gone: list[int] = []
    known: list[int] = []
    for deal in again.tolist():
        (first, end), (begin, behind) = (np.searchsorted(one.deal, [deal, deal + 1]).tolist() for one in (old, added))
        both = min(end - first, behind - begin)
        same = np.ones(both, dtype=bool)
        for field in fields(Revisions):
            before, now = getattr(old, field.name), getattr(added, field.name)
            same &= before[first : first + both] == now[begin : begin + both]
        alike = int(np.logical_and.accumulate(same).sum())
        gone += range(first + alike, end)
        known += range(begin, begin + alike)
    return np.array(gone, dtype=np.int64), np.array(known, dtype=np.int64)


def _superseded(old: Revisions, added: Revisions) -> Ints:
    """Last rows of their deals that an added revision of the same moment follows."""
    deals, first = np.unique(added.deal, return_index=True)
    last = np.searchsorted(old.deal, deals, side="right") - 1
    there = last >= 0
    there[there] = (old.deal[last[there]] == deals[there]) & (
        old.effective_at[last[there]] == added.effective_at[first[there]]
    )
    return last[there]


def take_over(old: Book, new: Book, growth: Growth) -> None:
    """Give `new` what was derived from `old` and still holds, as each value was declared."""
    same = {name: getattr(new, name) is getattr(old, name) for name in ("reference", "deals", "credits", "attributes")}
    count = len(old.deals.key)
    known = same["deals"] or all(
        np.array_equal(getattr(old.deals, name), getattr(new.deals, name)[:count]) for name in KNOWN
    )
    growth = replace(growth, same_base=all(same.values()), same_known=same["reference"] and same["credits"] and known)
    new.cache.grow_from(old.cache, Grown(old, new, growth))
