"""Below the grid: will we make it, which deals decide it, which deals moved since last week."""

from dataclasses import dataclass
from datetime import timedelta

import numpy as np

from wise_tally.core.changes import Changes, changes
from wise_tally.core.outcome import deciding
from wise_tally.web.filter_line import ScopeLine

MOST = 5


@dataclass(frozen=True)
class DecidingDeal:
    """An open deal of the period with the chance of quota if it is won and if it is not."""

    at: int
    amount_minor: int
    chance_with: float | None
    chance_without: float | None


@dataclass(frozen=True)
class MovedDeal:
    """A deal that moved the weighted figure."""

    at: int | None
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
        """Deals of the standing that the lists name."""
        return [d.at for d in self.deciding] + [m.at for m in self.moved if m.at is not None]


def outlook(line: ScopeLine, node: str, quota: int | None) -> Outlook:
    """Chance of quota, deciding deals and what moved in the last seven days."""
    found = deciding(line.book, line.standing, line.period, line.scope, node, quota, MOST)
    whole = found.either_way.whole
    since = line.as_of - timedelta(days=7)
    before = line.book.stand(since)
    change = changes(line.book, before, line.standing, line.period, line.scope, "weighted")
    moved = []
    for item in change.moved[:MOST]:
        place = int(np.searchsorted(line.standing.deal, item.deal))
        there = place < len(line.standing.deal) and int(line.standing.deal[place]) == item.deal
        moved.append(MovedDeal(place if there else None, item.deal, item.change_minor))
    return Outlook(
        chance=whole.chance_of(quota),
        p10=whole.quantile(0.1),
        p50=whole.quantile(0.5),
        p90=whole.quantile(0.9),
        deciding=tuple(
            DecidingDeal(at, amount, *pair)
            for at, amount, pair in zip(found.at, found.amount_minor, found.either_way.chances, strict=True)
        ),
        since=since,
        change=change,
        moved=tuple(moved),
    )
