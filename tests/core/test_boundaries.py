"""What happens exactly at a boundary: ties, last days, smallest samples; small books, worked out by hand."""

from datetime import timedelta

import numpy as np
import pytest

from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of, day, reference
from wise_tally.core.attainment import so_far
from wise_tally.core.deal_list import days_over, overstaying
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.observed_weight import observed_probabilities
from wise_tally.core.outcome import outcome
from wise_tally.core.statistics import DAY_SECONDS, kaplan_meier

YEAR = reference().fiscal.parse("FY2026")


def test_amounts_in_the_middle_of_two_cells_go_to_the_even_one():
    """On a grid of 50: 25 is half a cell (none), 75 one and a half (two), 125 two and a half (two)."""
    found = outcome(0, np.array([25, 75, 125, 1_999_801]), np.array([10_000, 10_000, 10_000, 0]))
    assert found.step_minor == 50
    assert int(np.argmax(found.probability)) == 0 + 2 + 2
    assert found.mean_minor == 225, "the mean is that of the amounts, not of the cells"


def test_a_quantile_that_is_met_exactly_is_the_smaller_total():
    found = outcome(0, np.array([100]), np.array([5_000]))
    assert (found.quantile(0.5), found.quantile(0.51)) == (0, 100)
    assert found.chance_of(100) == found.chance_of(1) == 0.5


def test_a_median_is_the_first_day_on_which_half_are_left():
    """Of four stays that end after 1, 2, 3 and 4 days a half is left after exactly two; a censored one moves it on."""
    spent = np.array([1, 2, 3, 4]) * DAY_SECONDS
    assert kaplan_meier(spent, np.array([True, True, True, True])).quantile(0.5) == 2
    assert kaplan_meier(spent, np.array([False, True, True, True])).quantile(0.5) == 3
    assert kaplan_meier(spent, np.array([True, False, False, False])).quantile(0.5) is None


@pytest.mark.parametrize(("entered", "over"), [("2026-03-01", False), ("2026-02-28", True)])
def test_a_deal_at_its_typical_days_is_not_over_them(entered, over):
    """Ten typical days; at the end of 10 March a deal that came in on 1 March at midnight has been there ten days."""
    book = book_of([[(day(entered), FIRST, 100, None)]], reference(typical_days=(10.0, None)))
    snapshot, rows = book.as_of(day("2026-03-10")), np.array([0])
    assert overstaying(book, snapshot, rows).tolist() == [over]
    assert days_over(book, snapshot, rows).tolist() == pytest.approx([1.0 if over else np.nan], nan_ok=True)


def decided(count, on, won=5):
    """Deals that came into the first stage on a day and were closed the day after, the first few won."""
    closed = on + timedelta(days=1)
    return [[(on, FIRST, 100, None), (closed, IS_WON if n < won else IS_LOST, 100, None)] for n in range(count)]


@pytest.mark.parametrize(
    ("histories", "expected"),
    [
        (decided(20, day("2025-12-31")), 2_500),
        (decided(19, day("2025-12-31")), 5_000),
        # The look-back ends with the day before the period.
        (decided(19, day("2025-12-31")) + decided(1, day("2026-01-01")), 5_000),
        (decided(19, day("2025-12-31")) + decided(1, day("2025-01-01")), 3_000),
        (decided(19, day("2025-12-31")) + decided(1, day("2024-12-31")), 5_000),
    ],
)
def test_twenty_deals_that_reached_a_stage_in_the_look_back_are_enough(histories, expected):
    """A quarter of twenty is won; one more of another year or of the period itself does not count."""
    book = book_of(histories)
    found = observed_probabilities(book, book.as_of(day("2026-06-30")), YEAR)
    assert found.probability_bp[FIRST] == expected


@pytest.mark.parametrize(("count", "off"), [(20, True), (19, False)])
def test_a_probability_is_called_off_from_twenty_deals_on(count, off):
    book = book_of(decided(count, day("2026-02-01"), won=0))
    rate = probability_check(book, book.as_of(day("2026-06-30")), YEAR, Filter())[0].stages[FIRST]
    assert (rate.decided, rate.off) == (count, off)


def test_the_last_day_of_a_period_still_shows_what_is_open():
    """On 31 March January's line has no open part, March's has, the day after none."""
    book = book_of([[(day("2026-01-10"), SECOND, 700, day("2026-03-31"))]])
    months = tuple(reference().fiscal.parse(f"FY2026-M{month:02}") for month in (1, 2, 3))
    last = so_far(book, book.as_of(day("2026-03-31")), months, Filter(), ("company", 0))
    assert [one.open for one in last] == [None, None, 700]
    after = so_far(book, book.as_of(day("2026-04-01")), months, Filter(), ("company", 0))
    assert [one.open for one in after] == [None, None, None]


def test_people_of_a_team_have_a_row_with_nothing_in_it():
    """Of the team that is asked for everybody, of others nobody who holds nothing."""
    ground = reference(people=(("ann", 0), ("bob", 0), ("cid", 1)), teams=("north", "south"))
    book = book_of([[(day("2026-01-10"), FIRST, 500, day("2026-02-01")), 0]], ground)
    rows = forecast(book, book.as_of(day("2026-01-31")), YEAR, Filter(team=0), "person")
    assert [(row.key, row.open) for row in rows] == [("ann", 500), ("bob", 0)]
