"""The distribution of outcomes gathered into columns, and the picture of it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wise_tally.core.money import WHOLE_BP
from wise_tally.core.outcome import Outcome, with_and_without
from wise_tally.domain.formats import percent, short
from wise_tally.web.charts import Chart, Layer, Mark, Point, money_marks, rate_marks

BINS = 60
TAIL = 0.0005
# A deal makes humps of its own where it is larger than this part of the range that holds eight of ten outcomes.
HUMP = 0.6


@dataclass(frozen=True)
class Bin:
    """A column of the drawing: from and to in minor units, and the chance of ending there."""

    from_minor: int
    to_minor: int
    chance: float

    @property
    def ends(self) -> tuple[int, int]:
        """Where the column begins and ends, in minor units."""
        return self.from_minor, self.to_minor


def bins_of(outcome: Outcome) -> list[Bin]:
    """The distribution gathered into columns of one width between its thin ends."""
    low, high = outcome.quantile(TAIL), outcome.quantile(1 - TAIL)
    values = outcome.won_minor + np.arange(len(outcome.probability), dtype=np.int64) * outcome.step_minor
    edges = np.linspace(low, max(high, low + 1), BINS + 1)
    index = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, BINS - 1)
    chances = np.bincount(index, weights=outcome.probability, minlength=BINS)
    return [Bin(int(edges[n]), int(edges[n + 1]), chance) for n, chance in enumerate(chances.tolist())]


@dataclass(frozen=True)
class Largest:
    """The largest open deal: its name, what it brings in minor units, and its probability in basis points."""

    name: str
    amount_minor: int
    probability_bp: int


def outcome_chart(outcome: Outcome, quota: int | None, hrefs: Sequence[str], largest: Largest | None = None) -> Chart:
    """The chance of each outcome as columns, with the likely range, the quota and the humps that the largest deal makes."""
    bins = bins_of(outcome)
    first, width = bins[0].from_minor, max(1, bins[0].to_minor - bins[0].from_minor)

    def position(minor: float) -> float:
        """Where an amount stands among the columns, counted from the middle of the first."""
        return (minor - first) / width - 0.5

    reached = [bin.chance if quota is not None and bin.from_minor >= quota else None for bin in bins]
    p10, p50, p90 = (outcome.quantile(q) for q in (0.1, 0.5, 0.9))
    marks = [
        Mark("now", f"{short(value)} · {words}", at=position(value))
        for words, value in (("1 in 10 below", p10), ("9 in 10 below", p90))
    ]
    if quota is not None and bins[0].from_minor <= quota <= bins[-1].to_minor:
        marks.append(Mark("quota", f"quota {short(quota)}", at=position(quota)))
    if largest and 0 < largest.probability_bp < WHOLE_BP and largest.amount_minor > HUMP * (p90 - p10):
        means = with_and_without(outcome, largest.amount_minor, largest.probability_bp)
        marks += [
            Mark("none", f"{word} {largest.name}", at=position(mean))
            for word, mean in zip(("without", "with"), means, strict=True)
        ]
    last = bins[-1].to_minor
    return Chart(
        key="outcome",
        conclusion=f"Chance of each outcome: middle {short(p50)}, eight of ten between {short(p10)} and {short(p90)}",
        points=[
            Point(
                f"{short(one.from_minor)} to {short(one.to_minor)}",
                [
                    ("chance of ending here", percent(one.chance)),
                    ("of ending here or above", percent(_from(bins, index))),
                ],
                href,
                panel=True,
            )
            for index, (one, href) in enumerate(zip(bins, hrefs, strict=True))
        ],
        layers=[
            Layer("columns", "soft", [bin.chance for bin in bins]),
            Layer("columns", "solid", reached),
        ],
        y_words=rate_marks(max(bin.chance for bin in bins)),
        x_words=[(position(value), words) for value, words in money_marks(last, max(first, 1))],
        marks=marks,
        enter="shows how this chance is calculated",
    )


def _from(bins: Sequence[Bin], index: int) -> float:
    return sum(bin.chance for bin in bins[index:])
