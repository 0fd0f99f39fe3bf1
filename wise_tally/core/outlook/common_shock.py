"""Common shock: how far the chances of all deals move together from one period to the next."""

import numpy as np

from wise_tally.core.outlook.open_deal_states import DAYS_BETWEEN, Past
from wise_tally.core.statistics import Floats

WITHOUT_PAST = 0.25
LEAST = 0.10
USUAL = 0.2
# Quarters of past that the usual shock weighs, and days of a quarter.
USUAL_QUARTERS, QUARTER_DAYS = 2, 91.0


def common_shock(past: Past, chance: Floats) -> float:
    """The standard deviation σ of a shift of all log-odds together: Σ((won − expected)² − v) ÷ Σv² over the landmarks.

    v is the sum of p(1 − p) of a landmark; pulled to 0.2 by two quarters' weight, not under 0.1; 0.25 without any landmark.
    """
    if not len(chance):
        return WITHOUT_PAST
    _, landmark = np.unique(past.days_ago, return_inverse=True)
    won, expected, spread = (
        np.bincount(landmark, one) for one in (past.won.astype(float), chance, chance * (1 - chance))
    )
    beyond = float(((won - expected) ** 2 - spread).sum()) / max(float((spread**2).sum()), 1e-9)
    quarters = len(won) * DAYS_BETWEEN / QUARTER_DAYS
    variance = (quarters * max(beyond, 0.0) + USUAL_QUARTERS * USUAL**2) / (quarters + USUAL_QUARTERS)
    return float(np.sqrt(max(variance, LEAST**2)))
