"""Stays and rates: how likely deals leave a stage on each day of their stay, by where they go.

Days are whole days of 86 400 seconds, durations rounded half up and capped at 720 days; a stay that reaches the cap is no
exit there. Nothing at or after the as-of midnight is read.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import WHOLE_BP, Ints
from wise_tally.core.reference_data import LOST, OPEN, WON, StageRule
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.stays import Stays, recounted, recounting
from wise_tally.core.trees import NONE

AGE_CAP = 720
AGES = AGE_CAP + 1
LOOK_BACK_DAYS = 730
CACHED_FITS = 64
# Of what is large: that of the days last looked at.
CACHED_LARGE = 8
# Exits that an age class must hold; exits that what is set weighs a stage, and a stage's whole weighs each age class.
EXITS_OF_A_CLASS = 10
EXITS_OF_WHAT_IS_SET = 10.0
EXITS_OF_THE_WHOLE = 5.0
LEAST_SHARE, MOST_SHARE = 0.02, 0.98
DAYS_WHERE_NONE_ARE_SET = 30.0


@dataclass(frozen=True)
class Weights:
    """How rates are smoothed: exits an age class holds at least, exits of what is set, exits of a stage's whole."""

    class_exits: int = EXITS_OF_A_CLASS
    set_exits: float = EXITS_OF_WHAT_IS_SET
    whole_exits: float = EXITS_OF_THE_WHOLE


@dataclass(frozen=True)
class ObservedStays:
    """Of n open stages on days 0 to 720 of a stay: how many exits to each stage, won and lost, and at risk; shape (n, n + 3, 721)."""

    stages: tuple[int, ...]
    table: Floats

    @property
    def exits(self) -> Floats:
        """By target, the last ones won and lost, shape (n, n + 2, 721)."""
        return self.table[:, :-1]

    @property
    def at_risk(self) -> Floats:
        """Those still there, shape (n, 721)."""
        return self.table[:, -1]


def whole_days(seconds: Any) -> Ints:
    """Durations in seconds (any shape) as whole days, half up, at most 720."""
    return np.minimum((np.asarray(seconds, dtype=np.int64) + DAY_SECONDS // 2) // DAY_SECONDS, AGE_CAP)


def _mended_observed(known: ObservedStays, grown: Grown, cut: int, process: int) -> ObservedStays | None:
    table = recounted(known.table, grown, _counted, cut, process)
    return None if table is None else ObservedStays(known.stages, table)


@derived(_mended_observed, most=CACHED_LARGE)
def observed_stays(book: Book, cut: int, process: int) -> ObservedStays:
    """Exits and stays at risk by day of the stay, of stays that touched the last 730 days before the moment `cut`.

    Running stays are censored at the cut; those begun before the look-back are at risk from its first whole day on.
    Source: occurrence and exposure with delayed entry, Aalen, Borgan and Gjessing, Survival and Event History Analysis (2008), chapter 3.
    """
    return ObservedStays(book.reference.open_stages(process), _counted(book, book.stays, cut, process))


def _counted(book: Book, stays: Stays, cut: int, process: int) -> Floats:
    reference = book.reference
    stages = reference.open_stages(process)
    count, since = len(stages), cut - LOOK_BACK_DAYS * DAY_SECONDS
    index = np.full(len(reference.stages), NONE)
    index[list(stages)] = np.arange(count)
    rows = np.flatnonzero((stays.entered_at < cut) & (stays.left_at > since) & (index[stays.stage] != NONE))
    entered, left = stays.entered_at[rows], stays.left_at[rows]
    last = whole_days(np.minimum(left, cut) - entered)
    first = np.where(entered < since, whole_days(np.maximum(since - entered, 0)) + 1, 0)
    counted = last >= first
    rows, first, last, left = rows[counted], first[counted], last[counted], left[counted]
    target = index.copy()
    target[reference.stage_kind == WON], target[reference.stage_kind == LOST] = count, count + 1
    # A stay that ended is followed by the one its deal moved to.
    goes_to = target[stays.stage[np.minimum(rows + 1, len(stays.stage) - 1)]]
    is_exit = (left < cut) & (last < AGE_CAP) & (goes_to != NONE)
    stage = index[stays.stage[rows]]
    size = count * (AGES + 1)
    joined = np.bincount(stage * (AGES + 1) + first, minlength=size)
    gone = np.bincount(stage * (AGES + 1) + last + 1, minlength=size)
    at_risk = np.cumsum((joined - gone).reshape(count, AGES + 1), axis=1)[:, :AGES]
    cell = (stage[is_exit] * (count + 2) + goes_to[is_exit]) * AGES + last[is_exit]
    exits = np.bincount(cell, minlength=count * (count + 2) * AGES).reshape(count, count + 2, AGES)
    return np.concatenate([exits, at_risk[:, np.newaxis]], axis=1).astype(float)


def daily_rates(observed: ObservedStays, rules: tuple[StageRule, ...], weights: Weights) -> Floats:
    """The chance to leave on each day of a stay for each target, of those still there: shape (n, n + 2, 721).

    whole = (O + m·share) ÷ (R + m·days); of an age class (O + k·whole ÷ Σwhole) ÷ (R + k ÷ Σwhole), O exits and R days at risk,
    m and k the weights. With classes of a day and no weights it is the estimate of Aalen and Johansen (1978) on whole days.
    """
    share, days = _as_set(observed.stages, rules)
    rates = np.zeros_like(observed.exits)
    for stage, exits in enumerate(observed.exits):
        starts = age_classes(exits.sum(axis=0), weights.class_exits)
        of_class = np.add.reduceat(exits, starts, axis=1)
        exposure = np.add.reduceat(observed.at_risk[stage], starts)
        if weights.set_exits or weights.whole_exits:
            whole = (of_class.sum(axis=1) + weights.set_exits * share[stage]) / (
                exposure.sum() + weights.set_exits * days[stage]
            )
            prior = weights.whole_exits / whole.sum()
            rate = (of_class + prior * whole[:, None]) / (exposure + prior)
        else:
            rate = np.divide(of_class, exposure, out=np.zeros_like(of_class), where=exposure > 0)
        rates[stage] = np.repeat(rate, np.diff(np.r_[starts, AGES]), axis=1)
    return rates


def age_classes(exits: Floats, least: int) -> Ints:
    """First days of the age classes: one closes on the first day on which it holds `least` exits, the last goes on for ever."""
    if least <= 1:
        return np.arange(len(exits))
    starts, counted = [0], 0.0
    for day in np.flatnonzero(exits).tolist():
        counted += exits[day]
        if counted >= least and day + 1 < len(exits):
            starts.append(day + 1)
            counted = 0.0
    if len(starts) > 1 and counted < least:
        starts.pop()
    return np.array(starts)


def _as_set(stages: tuple[int, ...], rules: tuple[StageRule, ...]) -> tuple[Floats, Floats]:
    """A stage's exits as set: the share that goes to the next stage (or is won), the rest lost; and its days."""
    count = len(stages)
    chance = np.r_[[rules[stage].probability_bp / WHOLE_BP for stage in stages], 1.0]
    onward = np.divide(chance[:-1], chance[1:], out=np.full(count, 0.5), where=chance[1:] > 0)
    share, index = np.zeros((count, count + 2)), np.arange(count)
    share[index, index + 1] = np.clip(onward, LEAST_SHARE, MOST_SHARE)
    share[:, count + 1] = 1 - share[index, index + 1]
    typical = np.array([rules[stage].typical_days or np.nan for stage in stages], dtype=float)
    known = typical[~np.isnan(typical)]
    days = np.where(np.isnan(typical), known.mean() if len(known) else DAYS_WHERE_NONE_ARE_SET, typical)
    # A daily rate cannot describe deals that leave within the day.
    return share, np.maximum(days, 1.0)


def _decided(book: Book, stays: Stays, cut: int) -> Ints:
    recent = (stays.entered_at < cut) & (stays.entered_at >= cut - LOOK_BACK_DAYS * DAY_SECONDS)
    decided = np.unique(stays.deal[recent & (book.reference.stage_kind[stays.stage] != OPEN)])
    return np.bincount(book.deals.process[decided], minlength=len(book.reference.processes))


@derived(recounting(_decided), most=CACHED_FITS)
def decided_deals(book: Book, cut: int) -> Ints:
    """Of each process the deals with history that were won or lost in the look-back before `cut`, shape (processes,)."""
    return _decided(book, book.stays, cut)
