"""Below the grid: will we make it, which deals decide it, which deals moved since last week."""

from dataclasses import dataclass
from datetime import timedelta

import numpy as np

from wise_tally.core.outcome import deciding
from wise_tally.core.what_changed import Changes, changes
from wise_tally.web.filter_line import FilterLine

MOST = 5


@dataclass(frozen=True)
class DecidingDeal:
    """An open deal of the period with the chance of quota if it is won and if it is not."""

    row: int
    amount_minor: int
    chance_with: float | None
    chance_without: float | None


@dataclass(frozen=True)
class MovedDeal:
    """A deal that moved the weighted figure."""

    row: int | None
    deal: int
    change_minor: int


@dataclass(frozen=True)
class Outlook:
    """What the page says beyond the grid."""

    chance: float | None
    p10: int
    p50: int
    p90: int
    deciding: tuple[DecidingDeal, ...]
    since: object
    change: Changes
    moved: tuple[MovedDeal, ...]

    @property
    def places(self) -> list[int]:
        """Deals of the snapshot that the lists name."""
        return [d.row for d in self.deciding] + [m.row for m in self.moved if m.row is not None]


def outlook(line: FilterLine, node: str, quota: int | None) -> Outlook:
    """Chance of quota, deciding deals and what moved in the last seven days."""
    found = deciding(line.book, line.snapshot, line.period, line.scope, node, quota, MOST)
    whole = found.either_way.whole
    since = line.as_of - timedelta(days=7)
    before = line.book.as_of(since)
    change = changes(line.book, before, line.snapshot, line.period, line.scope, "weighted")
    moved = []
    for item in change.moved[:MOST]:
        index = int(np.searchsorted(line.snapshot.deal, item.deal))
        there = index < len(line.snapshot.deal) and int(line.snapshot.deal[index]) == item.deal
        moved.append(MovedDeal(index if there else None, item.deal, item.change_minor))
    return Outlook(
        chance=whole.chance_of(quota),
        p10=whole.quantile(0.1),
        p50=whole.quantile(0.5),
        p90=whole.quantile(0.9),
        deciding=tuple(
            DecidingDeal(row, amount, *pair)
            for row, amount, pair in zip(found.rows, found.amount_minor, found.either_way.chances, strict=True)
        ),
        since=since,
        change=change,
        moved=tuple(moved),
    )
