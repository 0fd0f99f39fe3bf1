"""Corrections: shifts of the log-odds of the chances, learnt from the outcome of past open deals, and mostly shrunk to nothing.

Factors: expected close, its slips, type, source, size and owner. Base and slope of size by ridged Newton steps; the levels of each
factor by empirical Bayes, the variance between levels that of DerSimonian and Laird, Controlled Clinical Trials 7 (1986), 177–188.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.money import Ints
from wise_tally.core.outlook.open_deal_states import OpenDealStates, Past
from wise_tally.core.statistics import Floats
from wise_tally.core.trees import NONE

HALF_LIFE_DAYS = 180.0
BASE_PRIOR = SLOPE_PRIOR = 10.0
SWEEPS = NEWTON_STEPS = 2
MOST_SHIFT = 1.5
MOST_SLIPS = 4
SIZE_BANDS = 5
SMALLEST, LARGEST = -3.0, 5.0
CLOSE_CLASSES = ("overdue by 30 days or more", "overdue", "due in the first half of the days left", "due in the second half",
                 "due up to 30 days after", "due later", "undated")  # fmt: skip
FACTORS = ("close", "slips", "type", "source", "size", "owner")
TINY = 1e-9


def log_odds(chance: Floats) -> Floats:
    """ln(p ÷ (1 − p)), p kept off 0 and 1 by a millionth."""
    p = np.clip(chance, 1e-6, 1 - 1e-6)
    return np.asarray(np.log(p / (1 - p)))


def chance_of(odds: Floats) -> Floats:
    """The chance whose log-odds these are."""
    return np.asarray(1 / (1 + np.exp(-odds)))


@dataclass(frozen=True)
class Corrections:
    """Shifts of log-odds: of all deals, by size (slope of the standardised log amount) and by level of each factor."""

    base: float = 0.0
    slope: float = 0.0
    centre: float = 0.0
    scale: float = 1.0
    bands_minor: Floats = field(default_factory=lambda: np.zeros(SIZE_BANDS - 1))
    shifts: dict[str, Floats] = field(default_factory=dict)
    variance: dict[str, float] = field(default_factory=dict)

    def size_of(self, amount_minor: Ints) -> Floats:
        """The log amounts in standard deviations from their mean, within −3 and 5."""
        return np.clip((_log_amount(amount_minor) - self.centre) / self.scale, SMALLEST, LARGEST)


def _log_amount(amount_minor: Ints) -> Floats:
    return np.asarray(np.log(np.maximum(amount_minor, TINY)))


def levels(book: Book, states: OpenDealStates, horizon: int, factor: str, bands_minor: Floats) -> tuple[Ints, int]:
    """The level of each deal in a factor and the number of levels; without type, source or owner the last one."""
    if factor == "close":
        return close_class(states.days_to_close, horizon), len(CLOSE_CLASSES)
    if factor == "slips":
        return np.minimum(states.slips, MOST_SLIPS), MOST_SLIPS + 1
    if factor == "size":
        return np.searchsorted(bands_minor, states.amount_minor, side="left"), SIZE_BANDS
    if factor == "owner":
        level, many = states.owner, len(book.reference.people) + 1
    else:
        column = book.deals.deal_type if factor == "type" else book.deals.source
        level, many = column[states.deal], int(column.max(initial=0)) + 2
    return np.where(level == NONE, many - 1, level), many


def close_class(days_to_close: Floats, horizon: int) -> Ints:
    """The place of each deal in CLOSE_CLASSES, by the days to its expected close (NaN undated)."""
    edges = [-30.0, 0.0, horizon / 2, float(horizon), horizon + 30.0]
    index = np.searchsorted(edges, np.nan_to_num(days_to_close, nan=0.0), side="left")
    return np.where(np.isnan(days_to_close), len(CLOSE_CLASSES) - 1, index)


def bands_of_equal_money(amount_minor: Ints) -> Floats:
    """The upper bounds of all but the last of five size bands that hold equal shares of the money, not of the deals."""
    rising = np.sort(amount_minor).astype(float)
    money = np.cumsum(rising)
    if not len(rising) or money[-1] <= 0:
        return np.zeros(SIZE_BANDS - 1)
    parts = money[-1] * np.arange(1, SIZE_BANDS) / SIZE_BANDS
    return rising[np.minimum(np.searchsorted(money, parts), len(rising) - 1)]


def learnt_corrections(book: Book, past: Past, chance: Floats, horizon: int) -> tuple[Corrections, Floats]:
    """The corrections of the chances of past open deals, and those chances corrected, shape (rows of `past`,).

    A row weighs (deals ÷ rows) · 2^(−days since its landmark's horizon ended ÷ 180), so that a deal seen often counts about once.
    """
    states, won = past.states, past.won.astype(float)
    bands = bands_of_equal_money(states.amount_minor)
    coded = {factor: levels(book, states, horizon, factor, bands) for factor in FACTORS}
    weight = len(np.unique(states.deal)) / len(won) * 0.5 ** ((past.days_ago - horizon) / HALF_LIFE_DAYS)
    # Deals without an amount yet have no size.
    sizes = _log_amount(states.amount_minor[states.amount_minor > 0])
    centre, scale = (float(sizes.mean()), float(sizes.std())) if len(sizes) else (0.0, 1.0)
    plain = Corrections(centre=centre, scale=max(scale, 1e-6), bands_minor=bands)
    size = plain.size_of(states.amount_minor)
    odds, base, slope = log_odds(chance), 0.0, 0.0
    shifts = {factor: np.zeros(many) for factor, (_, many) in coded.items()}
    variance: dict[str, float] = {}
    for _ in range(SWEEPS):
        odds, base = _with_base(odds, base, won, weight)
        odds, slope = _with_slope(odds, slope, won, weight, size)
        for factor, (code, many) in coded.items():
            odds = odds - shifts[factor][code]
            shifts[factor], variance[factor] = _shifts_of(odds, code, many, won, weight)
            odds = odds + shifts[factor][code]
    return replace(plain, base=base, slope=slope, shifts=shifts, variance=variance), chance_of(odds)


def _with_base(odds: Floats, base: float, won: Floats, weight: Floats) -> tuple[Floats, float]:
    p = chance_of(odds)
    step = float((weight * (won - p)).sum() / ((weight * p * (1 - p)).sum() + BASE_PRIOR))
    step = min(max(step, -1.0), 1.0)
    return odds + step, base + step


def _with_slope(odds: Floats, slope: float, won: Floats, weight: Floats, size: Floats) -> tuple[Floats, float]:
    p = chance_of(odds)
    pull = float((weight * size * (won - p)).sum()) - SLOPE_PRIOR * slope
    step = pull / (float((weight * size * size * p * (1 - p)).sum()) + SLOPE_PRIOR)
    step = min(max(step, -1.0), 1.0)
    return odds + step * size, slope + step


def _shifts_of(odds: Floats, code: Ints, many: int, won: Floats, weight: Floats) -> tuple[Floats, float]:
    """Shrunken shifts of a factor's levels, shape (many,), on odds without the factor; and the variance between them."""
    shift, variance = np.zeros(many), 0.0
    for _ in range(NEWTON_STEPS):
        p = chance_of(odds + shift[code])
        missed, spread = (_sum_by_level(weight * one, code, many) for one in (won - p, p * (1 - p)))
        raw = shift + np.divide(missed, spread, out=np.zeros(many), where=spread > TINY)
        shift, variance = shrunken(raw, spread)
    return shift, variance


def _sum_by_level(values: Floats, code: Ints, many: int) -> Floats:
    """Sums of values by level, shape (many,)."""
    return np.asarray(np.bincount(code, values, many), dtype=np.float64)


def shrunken(effect: Floats, precision: Floats) -> tuple[Floats, float]:
    """Effects around their mean, shrunk by the variance τ² between them: z·τ² ÷ (τ² + 1 ÷ v), within ±1.5; and τ².

    `precision` v is one over the variance of each effect z; levels without precision get 0.
    τ² = max(0, (Σ v z'² − (k − 1)) ÷ (Σv − Σv² ÷ Σv)), z' the effect less the mean weighed by v.
    """
    known = precision > TINY
    shift, v = np.zeros(len(effect)), precision[known]
    if len(v) < 2:
        return shift, 0.0
    z = effect[known] - (v * effect[known]).sum() / v.sum()
    spread = float((v * z * z).sum()) - (len(v) - 1)
    variance = max(0.0, spread / float(v.sum() - (v * v).sum() / v.sum()))
    shift[known] = np.clip(z * variance / (variance + 1 / v), -MOST_SHIFT, MOST_SHIFT)
    return shift, variance


def shifts_of_deals(book: Book, states: OpenDealStates, horizon: int, corrections: Corrections) -> dict[str, Floats]:
    """By factor what it shifts the log-odds of each deal, shape (deals,); size is band and slope together."""
    by_factor = {
        factor: shift[levels(book, states, horizon, factor, corrections.bands_minor)[0]]
        for factor, shift in corrections.shifts.items()
    }
    by_factor["size"] = by_factor["size"] + corrections.slope * corrections.size_of(states.amount_minor)
    return by_factor
