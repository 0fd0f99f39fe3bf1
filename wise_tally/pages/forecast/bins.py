"""The distribution of outcomes gathered into columns to draw."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.outcome import Outcome
from wise_tally.web.ink import share

BINS = 60
TAIL = 0.0005


@dataclass(frozen=True)
class Bin:
    """A column of the drawing: from and to in minor units, the chance of ending there, its geometry."""

    from_minor: int
    to_minor: int
    chance: float
    x: str
    width: str
    y: str
    height: str

    @property
    def ends(self) -> tuple[int, int]:
        """Where the column begins and ends, in minor units."""
        return self.from_minor, self.to_minor


def bins_of(found: Outcome) -> list[Bin]:
    """The distribution gathered into columns of one width between its thin ends."""
    low, high = found.quantile(TAIL), found.quantile(1 - TAIL)
    values = found.won_minor + np.arange(len(found.probability), dtype=np.int64) * found.step_minor
    edges = np.linspace(low, max(high, low + 1), BINS + 1)
    index = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, BINS - 1)
    chances = np.bincount(index, weights=found.probability, minlength=BINS)
    largest = int(chances.max() * 1_000_000) or 1
    drawn = []
    for number, chance in enumerate(chances.tolist()):
        part = int(chance * 1_000_000)
        x, height = share(number, BINS), share(part, largest)
        geometry = (x, share(1, BINS), share(largest - part, largest), height)
        drawn.append(Bin(int(edges[number]), int(edges[number + 1]), chance, *geometry))
    return drawn
