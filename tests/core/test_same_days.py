"""Comparing a period with an earlier one on awkward dates."""

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.same_days import YEAR, same_days, year_before

DAYS = st.dates(date(2001, 1, 1), date(2098, 12, 31))


@pytest.mark.parametrize(
    ("start_month", "as_of", "kind", "before", "year"),
    [
        (1, "2024-02-29", "month", "2024-01-29", "2023-02-28"),
        (4, "2024-02-29", "quarter", "2023-11-29", "2023-02-28"),
        (10, "2025-02-28", "year", "2024-02-28", "2024-02-28"),
        (4, "2026-05-31", "quarter", "2026-02-28", "2025-05-31"),
        (10, "2026-12-31", "month", "2026-11-30", "2025-12-31"),
        (10, "2026-10-01", "year", "2025-10-01", "2025-10-01"),
        (4, "2026-08-15", "quarter", "2026-05-15", "2025-08-15"),
        (1, "2026-03-30", "month", "2026-02-28", "2025-03-30"),
    ],
)
def test_a_part_meets_the_same_part(start_month, as_of, kind, before, year):
    """29 February, month ends, fiscal years from April and October; by the ruling: min(day, last day of the month)."""
    fiscal, day = FiscalCalendar(start_month), date.fromisoformat(as_of)
    period = fiscal.containing(day, kind)
    now, then = same_days(fiscal, period, day)
    assert (now.starts_on, now.ends_on) == (period.starts_on, day)
    assert then.starts_on == fiscal.shifted(period, -1).starts_on
    over = day >= period.ends_on
    assert then.ends_on == (fiscal.shifted(period, -1).ends_on if over else date.fromisoformat(before))
    assert same_days(fiscal, period, day, YEAR)[1].ends_on == date.fromisoformat(year)


def test_the_same_days_of_the_year_before():
    """Ruling 31: min(day, last of the month); 28 February meets 28, never 29."""
    assert year_before(date(2024, 2, 29)) == date(2023, 2, 28)
    assert year_before(date(2025, 2, 28)) == date(2024, 2, 28)
    month = FiscalCalendar(4).parse("FY2027-M08")
    this, before = same_days(FiscalCalendar(4), month, date(2026, 11, 15), YEAR)
    assert (this.starts_on, this.ends_on) == (date(2026, 11, 1), date(2026, 11, 15))
    assert (before.starts_on, before.ends_on) == (date(2025, 11, 1), date(2025, 11, 15))
    whole = same_days(FiscalCalendar(4), month, date(2027, 3, 1), YEAR)
    assert [span.ends_on for span in whole] == [date(2026, 11, 30), date(2025, 11, 30)]


@given(DAYS)
def test_a_year_before_is_a_year_before(day):
    found = year_before(day)
    assert (found.year, found.month) == (day.year - 1, day.month)
    assert found.day == day.day or (day.day == 29 and found.day == 28)
