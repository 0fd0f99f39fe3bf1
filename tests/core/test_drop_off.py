"""Where deals of a cohort stopped, by hand; every cohort of random workspaces: `test_conversion`."""

import numpy as np
import pytest

from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of, day
from wise_tally.core.conversion import ConversionOptions, cohort
from wise_tally.core.drop_off import losses, stopped_at
from wise_tally.core.lines import Filter

DAYS = [day(f"2026-01-{number:02}") for number in range(5, 9)]
WAYS = (
    (FIRST,), (FIRST, IS_LOST), (FIRST, SECOND), (FIRST, SECOND, IS_LOST), (FIRST, SECOND, IS_WON), (FIRST, IS_WON),
    (FIRST, SECOND, FIRST, IS_LOST),
)  # fmt: skip


@pytest.mark.parametrize(
    ("strict", "first", "second"),
    [
        # Of seven in the first stage one was lost there and one is undecided, of five decided; won deals reached all stages.
        (False, (1, 1, 5, 1 / 5), (2, 1, 2, 2 / 4)),
        # Who passed over the second stage did not stand in it.
        (True, (1, 1, 5, 1 / 5), (2, 1, 1, 2 / 3)),
    ],
)
def test_lost_undecided_and_onward_of_each_stage(strict, first, second):
    histories = [
        [(on, stage, 10 ** (n + 2), None) for on, stage in zip(DAYS, way, strict=False)] for n, way in enumerate(WAYS)
    ]
    book = book_of(histories)
    snapshot, period = book.as_of(day("2026-03-01")), book.reference.fiscal.parse("2026-01-01/2026-01-31")
    options = ConversionOptions(strict=strict)
    members = cohort(book, snapshot, period, Filter(process=0), options)
    rows = losses(book, snapshot, members, options)
    assert [(row.lost, row.undecided, row.onward, row.share) for row in rows] == [first, second]
    assert [(row.lost_minor, row.undecided_minor) for row in rows] == [(10**3, 10**2), (10**5 + 10**8, 10**4)]
    lost, still = stopped_at(book, snapshot, members, options, 1)
    assert (np.flatnonzero(lost).tolist(), np.flatnonzero(still).tolist()) == ([3, 6], [2])
