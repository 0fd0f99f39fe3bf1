"""In which bucket a deal stands: each day at both ends of the period and of today."""

from dataclasses import replace

import numpy as np
import pytest

from tests.support.small_books import FIRST, IS_LOST, IS_WON, book_of, day
from wise_tally.core import buckets
from wise_tally.core.buckets import FIGURES, FIRST_OPEN, Buckets, buckets_in, deciding_day, picks

TODAY, PERIOD = day("2026-05-20"), (day("2026-04-01").toordinal(), day("2026-06-30").toordinal())
OPEN_ONES = {
    "2026-03-31": buckets.DUE_BEFORE, "2026-04-01": buckets.OVERDUE, "2026-05-19": buckets.OVERDUE, "2026-05-20": buckets.DUE,
    "2026-06-30": buckets.DUE, "2026-07-01": buckets.OTHER_PERIOD, None: buckets.UNDATED,
}  # fmt: skip


@pytest.mark.parametrize(("close", "timing"), OPEN_ONES.items())
def test_an_open_deal_stands_by_its_expected_close(close, timing):
    """Due today is not overdue yet; what was due before the period and is still open stands apart."""
    snapshot = book_of([[(day("2026-01-05"), FIRST, 100, day(close) if close else None)]]).as_of(TODAY)
    assert buckets_in(snapshot, *PERIOD).tolist() == [FIRST_OPEN + timing]
    # Due before a period ahead it is late only once its day is over.
    expected = {buckets.DUE: buckets.OTHER_PERIOD, buckets.OVERDUE: buckets.DUE_BEFORE}.get(timing)
    if expected is not None:
        assert buckets_in(snapshot, PERIOD[1] + 1, PERIOD[1] + 90).tolist() == [FIRST_OPEN + expected]


@pytest.mark.parametrize(("closed", "elsewhere"), [("2026-03-31", 1), ("2026-04-01", 0), ("2026-05-20", 0)])
@pytest.mark.parametrize(("stage", "bucket"), [(IS_WON, buckets.WON_IN_PERIOD), (IS_LOST, buckets.LOST_IN_PERIOD)])
def test_a_closed_deal_stands_by_the_day_of_its_closing(stage, bucket, closed, elsewhere):
    deal = [(day("2026-01-05"), FIRST, 100, day("2026-06-01")), (day(closed), stage, 100, day("2026-06-01"))]
    snapshot = book_of([deal]).as_of(TODAY)
    assert buckets_in(snapshot, *PERIOD).tolist() == [bucket + elsewhere]
    # Days of its own decide for what is won or open, never for what is lost.
    moved = replace(snapshot, due_on=np.array([day("2026-08-01").toordinal()]))
    decides = "2026-08-01" if stage == IS_WON else closed
    assert deciding_day(moved).tolist() == [day(decides).toordinal()]


def test_each_figure_adds_up_its_buckets_once():
    """Two of three categories count, the surest is the third: forecasts hold what is won and the surest ones due in the period."""
    three = Buckets(3, (2, 0))
    assert three.of("commit_forecast") == (buckets.WON_IN_PERIOD, FIRST_OPEN + 10, FIRST_OPEN + 11)
    assert set(three.of("weighted")) == {*three.of("won"), *three.of("open")}
    assert three.of("best_case_forecast") == (*three.of("commit_forecast"), FIRST_OPEN, FIRST_OPEN + 1)
    table = picks(three)
    assert table.shape == (2 * (FIRST_OPEN + 15), len(FIGURES) + 3)
    for column, name in enumerate(three.names):
        rows = np.flatnonzero(table[:, column]) - three.size * name.startswith("weighted")
        assert sorted(rows) == sorted(three.of(name)), name
