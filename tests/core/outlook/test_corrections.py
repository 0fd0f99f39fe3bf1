"""Shifts of log-odds: shrunken as published, by classes and bands worked by hand."""

from math import log

import numpy as np
import pytest
from statsmodels.stats.meta_analysis import combine_effects

from wise_tally.core.outlook.corrections import (
    Corrections,
    bands_of_equal_money,
    chance_of,
    close_class,
    log_odds,
    shrunken,
)


def test_levels_are_shrunk_by_the_variance_between_them():
    """The worked example; the variance as statsmodels 0.15 has it (DerSimonian and Laird), with other precisions too."""
    shift, variance = shrunken(np.array([1.0, -1.0, 0.0]), np.full(3, 10.0))
    assert (shift.tolist(), variance) == (pytest.approx([0.9, -0.9, 0.0]), pytest.approx(0.9))
    effect, precision = np.array([0.8, -0.4, 0.1, 1.2]), np.array([4.0, 9.0, 20.0, 2.0])
    known = combine_effects(effect, 1 / precision, method_re="dl")
    shift, variance = shrunken(np.r_[effect, 5.0], np.r_[precision, 0.0])
    assert variance == pytest.approx(known.tau2)
    around = effect - (precision * effect).sum() / precision.sum()
    assert shift == pytest.approx([*(around * variance / (variance + 1 / precision)), 0.0])
    assert shrunken(np.array([0.1, -0.1]), np.full(2, 10.0))[0].tolist() == [0, 0]


def test_log_odds_turn_back_into_chances():
    chance = np.array([0.001, 0.2, 0.5, 0.97])
    assert chance_of(log_odds(chance)) == pytest.approx(chance)
    assert log_odds(np.array([0.5, 0.75])) == pytest.approx([0.0, log(3)])


def test_classes_of_close_dates_and_bands_of_equal_money():
    days = np.array([-30, -29, 0, 1, 45, 46, 91, 92, 121, 122, np.nan])
    assert close_class(days, 91).tolist() == [0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 6]
    assert bands_of_equal_money(np.array([10, 10, 10, 10, 40, 20])).tolist() == [10, 10, 20, 40]
    assert Corrections(centre=log(100), scale=1.0).size_of(np.array([0, 100, 10**9])).tolist() == [-3, 0, 5]
