"""Submitted and outlook weighed together, by hand."""

import pytest

from wise_tally.core.outlook.combine import Weighing, weighing


def test_submitted_and_outlook_are_weighed_by_their_past_errors():
    found = weighing([(100, 80, 60)] * 10 + [(40, 60, 60)] * 10)
    assert (found.factor, found.weight) == (pytest.approx(0.897959, abs=1e-6), pytest.approx(0.4592, abs=1e-4))
    assert found.of(0, 8_000, 9_000) == 8_166
    assert weighing([(100, 80, 60)] * 7) == Weighing(7, 1.0, 0.0)
    assert weighing([]).of(100, 500, 900) == 900
