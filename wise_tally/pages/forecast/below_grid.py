"""Below the grid: will we make it, which deals decide it, which deals moved since last week."""

from dataclasses import dataclass
from datetime import timedelta

import numpy as np

from wise_tally.core.outlook.expected import CHANCE, DealAtStake
from wise_tally.core.what_changed import Changes, changes
from wise_tally.web.expectation import expected_of, leading_way, trust_of
from wise_tally.web.filter_line import FilterLine

MOST = 5


@dataclass(frozen=True)
class MovedDeal:
    """A deal that moved the weighted figure."""

    row: int | None
    deal: int
    change_minor: int


@dataclass(frozen=True)
class BelowGrid:
    """What the page shows below the grid."""

    chance: float | None
    p10: int
    p50: int
    p90: int
    figure: str
    deciding: tuple[DealAtStake, ...]
    since: object
    change: Changes
    moved: tuple[MovedDeal, ...]

    @property
    def places(self) -> list[int]:
        """Deals of the snapshot that the lists name."""
        return [d.row for d in self.deciding] + [m.row for m in self.moved if m.row is not None]


def below_grid(line: FilterLine, quota: int | None) -> BelowGrid:
    """Chance of quota, deciding deals and what moved in the last seven days."""
    way = leading_way(trust_of(line))
    outlook = expected_of(line, way, quota, MOST)
    whole = outlook.outcome
    since = line.as_of - timedelta(days=7)
    before = line.book.as_of(since)
    change = changes(line.book, before, line.snapshot, line.period, line.scope, "weighted")
    moved = []
    for item in change.moved[:MOST]:
        index = int(np.searchsorted(line.snapshot.deal, item.deal))
        there = index < len(line.snapshot.deal) and int(line.snapshot.deal[index]) == item.deal
        moved.append(MovedDeal(index if there else None, item.deal, item.change_minor))
    return BelowGrid(
        chance=whole.chance_of(quota),
        p10=whole.quantile(0.1),
        p50=whole.quantile(0.5),
        p90=whole.quantile(0.9),
        figure=CHANCE[way],
        deciding=outlook.deals,
        since=since,
        change=change,
        moved=tuple(moved),
    )
