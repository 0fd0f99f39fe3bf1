"""Convolution: the chance to be won within a number of days, from the daily rates of the stages still ahead.

A stay's chances depend on its age alone (a semi-Markov process). Back moves, skipped stages and stays of less than a day need
nothing special. Source: Howard, Dynamic Probabilistic Systems II (1971), chapter 10; here on whole days.
"""

from collections.abc import Sequence

import numpy as np

from wise_tally.core.outlook.moves import AGE_CAP, AGES
from wise_tally.core.statistics import Floats


def chance_of_new_stays(rates: Floats, horizon: int) -> Floats:
    """V of shape (n, horizon + 1): the chance that a deal entering stage i now is won within r days, r from 0 to horizon."""
    count, days = len(rates), np.minimum(np.arange(horizon + 1), AGE_CAP)
    daily = rates[:, :, days]
    stayed = np.cumprod(np.c_[np.ones(count), 1 - daily.sum(axis=1)[:, :-1]], axis=1)
    leaving = daily[:, : count + 1] * stayed[:, None, :]
    won_at_once = np.cumsum(leaving[:, count], axis=1)
    moving = leaving[:, :count]
    # Stays of less than a day may chain on one day, back moves too, so that day is solved as one.
    same_day = np.linalg.inv(np.eye(count) - moving[:, :, 0])
    chance = np.zeros((count, horizon + 1))
    chance[:, 0] = same_day @ won_at_once[:, 0]
    for day in range(1, horizon + 1):
        later = np.einsum("ijk,jk->i", moving[:, :, 1 : day + 1], chance[:, day - 1 :: -1])
        chance[:, day] = same_day @ (won_at_once[:, day] + later)
    return chance


def chance_by_age(rates: Floats, horizons: Sequence[int]) -> Floats:
    """W of shape (horizons, n, 721): the chance that a deal that has stood in stage i for a whole days is won within each horizon."""
    count, longest = len(rates), max(horizons, default=0)
    chance = np.zeros((len(horizons), count, AGES))
    if longest <= 0:
        return chance
    new_stay = chance_of_new_stays(rates, longest)
    ahead = np.arange(1, longest + 1)
    for stage in range(count):
        # From its last age class on a stage's rates are the same on every day, so one age stands for all older ones.
        changes = np.flatnonzero((np.diff(rates[stage], axis=1) != 0).any(axis=0))
        ages = np.arange(int(changes.max(initial=-1)) + 2)
        day = np.minimum(ages[:, None] + ahead, AGE_CAP)
        leave = rates[stage].sum(axis=0)
        stayed = np.cumprod(np.c_[np.ones(len(ages)), 1 - leave[day[:, :-1]]], axis=1)
        for target in range(count + 1):
            leaving = stayed * rates[stage, target][day]
            for index, horizon in enumerate(horizons):
                # What leaving on a day is worth: won, or the chance of the stage it moves to in the days then left.
                worth = np.ones(horizon) if target == count else new_stay[target, horizon - ahead[:horizon]]
                chance[index, stage, : len(ages)] += leaving[:, :horizon] @ worth
        chance[:, stage, len(ages) :] = chance[:, stage, [len(ages) - 1]]
    return np.clip(chance, 0.0, 1.0)
