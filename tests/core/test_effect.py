"""The effect of other stage rules, worked by hand on a small book."""

import pytest

from tests.support.small_books import FIRST, IS_WON, SECOND, book_of, day
from wise_tally.core.effect import StageChange, effect_of, quarters_moved, with_changes
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter

TODAY = day("2026-03-01")
# Two open in Stage 0 (due in the first and third quarter), one in Stage 1, one won; both stages stand at 50 %.
BOOK = book_of(
    [
        [(day("2026-01-05"), FIRST, 1_001, day("2026-03-10"))],
        [(day("2026-01-05"), FIRST, 2_000, day("2026-08-10"))],
        [(day("2026-01-05"), SECOND, 4_000, day("2026-08-10"))],
        [(day("2026-01-05"), FIRST, 8_000, None), (day("2026-02-01"), IS_WON, 8_000, None)],
    ]
)


@pytest.mark.parametrize(
    ("changes", "rows"),
    [
        # 25 % of 1 001 is 250.25, of 2 000 is 500; half of them was 500 (half to even) and 1 000.
        ({FIRST: StageChange(2_500, 0, None, False)}, [(FIRST, 2, 2, 1_500, 750)]),
        ({SECOND: StageChange(5_000, 0, 9.0, False)}, [(SECOND, 1, 0, 2_000, 2_000)]),
        (
            {SECOND: StageChange(10_000, 0, None, False), FIRST: StageChange(0, 0, None, False)},
            [(SECOND, 1, 1, 2_000, 4_000), (FIRST, 2, 2, 1_500, 0)],
        ),
        ({}, []),
    ],
)
def test_each_stage_before_and_after(changes, rows):
    found = effect_of(BOOK, BOOK.as_of(TODAY), changes)
    told = [(r.stage, r.deals_open, r.deals_moved, r.weighted_before, r.weighted_after) for r in found.stages]
    assert told == rows
    assert found.deals_moved == sum(row[2] for row in rows)
    assert found.change == sum(row[4] - row[3] for row in rows) == found.weighted_after - found.weighted_before


def test_quarters_whose_forecast_would_be_another():
    """Only quarters in which an open deal is expected, and of them only those that move; the forecast says the same."""
    snapshot = BOOK.as_of(TODAY)
    for stage, quarters in ((SECOND, ["FY2026-Q3"]), (FIRST, ["FY2026-Q1", "FY2026-Q3"])):
        changed = with_changes(BOOK.reference, {stage: StageChange(8_000, 0, None, False)})
        other = type(BOOK)(changed, BOOK.deals, BOOK.revisions, BOOK.credits)
        found = quarters_moved(BOOK, snapshot, other.as_of(TODAY))
        assert [one.period.text for one in found] == quarters
        for one in found:
            sides = [forecast(book, book.as_of(TODAY), one.period, Filter(), "company")[0] for book in (BOOK, other)]
            assert [side.weighted for side in sides] == [one.before_minor, one.after_minor]
    assert quarters_moved(BOOK, snapshot, snapshot) == ()
