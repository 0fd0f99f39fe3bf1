"""Seeds of random worlds: few in every run, all of them in one of the slow tests."""

import pytest


def seeds(few, every):
    return [*range(few), *(pytest.param(seed, marks=pytest.mark.slow) for seed in range(few, every))]
