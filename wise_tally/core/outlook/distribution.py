"""The distribution of what is won in the end: won, open deals by chance and deals still to come, under a common shock.

The shock δ ~ N(0, σ²) takes five nodes (Gauss–Hermite); at each a deal's log-odds move by σδ, scaled so that its chance stays its
mean. Deals still to come are a compound Poisson sum with mean · e^(σδ − σ²/2). The 150 deals with the widest spread are joined one
by one, the rest as one bell curve. Source: standard convolution; Abramowitz and Stegun (1964), 25.4.46 for the nodes.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wise_tally.core.outcome import Outcome
from wise_tally.core.outlook.corrections import chance_of, log_odds
from wise_tally.core.outlook.still_to_come import StillToCome
from wise_tally.core.statistics import Floats

CELLS = 2048
MOST_ALONE = 150
NODES = 5
NO_CHANCE = 1e-9


@dataclass(frozen=True)
class MayBeWon:
    """What may still be won: expected amounts (minor units) and chances of open deals, shape (deals,), deals to come, the shock's σ."""

    won_minor: int
    amount_minor: Floats
    chance: Floats
    to_come: StillToCome
    shock: float

    @property
    def open_minor(self) -> float:
        """What the open deals add on average."""
        return float((self.amount_minor * self.chance).sum())

    @property
    def mean_minor(self) -> float:
        """The mean of all that is won in the end."""
        return self.won_minor + self.open_minor + self.to_come.mean_minor

    @cached_property
    def nodes(self) -> tuple[Floats, Floats]:
        """The shock's values, in shifts of log-odds, and their weights."""
        if self.shock <= 0:
            return np.zeros(1), np.ones(1)
        values, weight = np.polynomial.hermite_e.hermegauss(NODES)
        return self.shock * values, weight / weight.sum()

    @cached_property
    def chance_at_nodes(self) -> Floats:
        """Each deal's chance at each node, shape (nodes, deals); their weighed mean is the deal's chance."""
        shift, weight = self.nodes
        # The rarer of won and not won is scaled, by less than one: a mean over the shock lies nearer to a half.
        rarer = np.minimum(self.chance, 1 - self.chance)
        side = np.where(self.chance > 0.5, -1.0, 1.0)
        moved = chance_of(log_odds(rarer) + side * shift[:, None])
        scaled = moved * rarer / (weight @ moved)
        return np.where(self.chance > 0.5, 1 - scaled, scaled)


@dataclass(frozen=True)
class _Grid:
    """Cells of `step_minor` each, from 0: what is added to what is won already."""

    step_minor: int
    cells: int = CELLS

    def added(self, sums: Floats, amount_minor: float, chance: Floats) -> Floats:
        """Sums of shape (nodes, cells reached) with a deal joined; its amount is split between two cells, so that the mean stays."""
        size, part = divmod(float(amount_minor) / self.step_minor, 1)
        reached = sums.shape[1]
        joined = np.zeros((len(sums), min(reached + int(size) + 2, self.cells)))
        joined[:, :reached] = sums * (1 - chance)[:, None]
        for cell, share in ((int(size), 1 - part), (int(size) + 1, part)):
            window = joined[:, cell : cell + reached]
            window += sums[:, : window.shape[1]] * (chance * share)[:, None]
        return joined

    def transformed(self, amount_minor: Floats, weight: Floats) -> npt.NDArray[np.complex128]:
        """The Fourier transform of one deal to come, drawn from the amounts by weight."""
        index = np.minimum(amount_minor / self.step_minor, self.cells - 2)
        low = index.astype(np.int64)
        drawn = np.bincount(low, (1 - (index - low)) * weight, 2 * self.cells)
        drawn += np.bincount(low + 1, (index - low) * weight, 2 * self.cells)
        return np.fft.rfft(drawn / weight.sum())


def _grid_of(may_be_won: MayBeWon) -> _Grid:
    """Cells up to the mean and six standard deviations, and the largest deal; never beyond what all deals together bring."""
    amount, chance, to_come = may_be_won.amount_minor, may_be_won.chance, may_be_won.to_come
    mean = may_be_won.mean_minor - may_be_won.won_minor
    spread = float(
        (amount**2 * chance * (1 - chance)).sum() + (to_come.expected * to_come.amount_minor.astype(float) ** 2).sum()
    )
    top = mean + 6 * (np.sqrt(spread) + 3 * may_be_won.shock * mean) + amount.max(initial=0.0)
    top += 2 * float(to_come.amount_minor.max(initial=0))
    if not len(to_come.expected):
        top = min(top, float(amount.sum()))
    # Each deal may spread over one cell more than its amount.
    cells = CELLS - 2 - min(len(amount), MOST_ALONE)
    return _Grid(max(int(np.ceil(top / cells)), 1))


def outcome_of(may_be_won: MayBeWon) -> Outcome:
    """The distribution of what is won in the end; its mean is exact."""
    return what_if_won(may_be_won, ())[0]


def what_if_won(
    may_be_won: MayBeWon, deals: tuple[int, ...], quota_minor: int | None = None
) -> tuple[Outcome, tuple[tuple[float | None, float | None], ...]]:
    """The distribution, and for each of a few deals (places) the chance of quota given that it is won and that it is not.

    What winning a deal reveals about the common shock counts: chance · if won + (1 − chance) · if not is the chance of quota.
    """
    likely = np.flatnonzero((may_be_won.amount_minor > 0) & (may_be_won.chance > NO_CHANCE))
    amount, chances = may_be_won.amount_minor[likely], may_be_won.chance_at_nodes[:, likely]
    grid, weight = _grid_of(may_be_won), may_be_won.nodes[1]
    p = may_be_won.chance[likely]
    widest = np.argsort(-(amount**2 * p * (1 - p)), kind="stable")
    apart = [index for index, deal in enumerate(likely.tolist()) if deal in deals]
    alone = [index for index in widest[:MOST_ALONE].tolist() if index not in apart]
    rest = np.setdiff1d(widest[MOST_ALONE:], apart)
    sums = np.ones((len(weight), 1))
    # The smallest first: the sums stay short for long.
    for index in sorted(alone, key=lambda one: amount[one]):
        sums = grid.added(sums, amount[index], chances[:, index])
    sums = _with_the_rest(may_be_won, grid, sums, (amount[rest], chances[:, rest]))

    def joined(but: int | None = None) -> Floats:
        grown = sums
        for index in apart:
            if index != but:
                grown = grid.added(grown, amount[index], chances[:, index])
        return grown

    mean = round(may_be_won.mean_minor)
    whole = Outcome(may_be_won.won_minor, grid.step_minor, weight @ joined(), mean)
    index_of = {int(likely[index]): index for index in apart}
    pairs = []
    for deal in deals:
        if deal not in index_of:
            pairs.append((whole.chance_of(quota_minor),) * 2)
            continue
        index = index_of[deal]
        others = joined(but=index)
        if_won, if_lost = weight * chances[:, index], weight * (1 - chances[:, index])
        either_way = [
            Outcome(may_be_won.won_minor + extra, grid.step_minor, _mixed(given, others), mean).chance_of(quota_minor)
            for given, extra in ((if_won, round(amount[index])), (if_lost, 0))
        ]
        pairs.append((either_way[0], either_way[1]))
    return whole, tuple(pairs)


def _mixed(weight: Floats, sums: Floats) -> Floats:
    total = weight.sum()
    return weight @ sums / total if total > 0 else sums.mean(axis=0)


def _with_the_rest(may_be_won: MayBeWon, grid: _Grid, sums: Floats, rest: tuple[Floats, Floats]) -> Floats:
    """Sums joined with the many deals of little spread (amounts, chances at the nodes) and with those to come, by transforms."""
    amount, chances = rest
    to_come = may_be_won.to_come
    if not len(amount) and to_come.number <= 0:
        return sums
    size = 2 * grid.cells
    wave = 2 * np.pi * np.arange(size // 2 + 1) / size
    spectrum = np.fft.rfft(sums, size, axis=1)
    if len(amount):
        mean = chances @ amount / grid.step_minor
        spread = (chances * (1 - chances)) @ amount**2 / grid.step_minor**2
        spectrum *= np.exp(-1j * np.outer(mean, wave) - 0.5 * np.outer(spread, wave**2))
    if to_come.number > 0:
        one = grid.transformed(to_come.amount_minor.astype(float), to_come.expected)
        number = to_come.number * np.exp(may_be_won.nodes[0] - may_be_won.shock**2 / 2)
        spectrum *= np.exp(np.outer(number, one - 1))
    back = np.maximum(np.fft.irfft(spectrum, size, axis=1)[:, : grid.cells], 0.0)
    return back / np.maximum(back.sum(axis=1, keepdims=True), 1e-12)
