"""Convolution of daily rates against draws written out."""

import numpy as np
import pytest

from wise_tally.core.outlook.chance_by_age import chance_of_new_stays
from wise_tally.core.outlook.moves import AGES

WON, LOST = 2, 3


def test_the_convolution_is_what_a_hundred_thousand_draws_give():
    """Source: simulation of the same rates, with moves back and stays of less than a day."""
    rates = np.zeros((2, 4, AGES))
    rates[0, 1, :], rates[0, LOST, :] = 0.08, 0.04
    rates[0, 1, 0] = 0.3
    rates[1, 0, :], rates[1, WON, 3:], rates[1, LOST, :] = 0.02, 0.10, 0.03
    random, horizon, many = np.random.default_rng(11), 25, 100_000
    stage, age, left = np.zeros(many, dtype=int), np.zeros(many, dtype=int), np.full(many, horizon)
    won, runs = np.zeros(many, dtype=bool), np.ones(many, dtype=bool)
    while runs.any():
        at = np.flatnonzero(runs)
        draw, edges = random.random(len(at)), np.cumsum(rates[stage[at], :, age[at]], axis=1)
        goes = (draw[:, None] >= edges).sum(axis=1)
        won[at[goes == WON]] = True
        runs[at[(goes == WON) | (goes == LOST)]] = False
        moved = at[goes < 2]
        stage[moved], age[moved] = goes[goes < 2], 0
        stayed = at[goes == 4]
        age[stayed] += 1
        left[stayed] -= 1
        runs[left < 0] = False
    assert chance_of_new_stays(rates, horizon)[0, horizon] == pytest.approx(won.mean(), abs=0.005)
