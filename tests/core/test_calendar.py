"""Fiscal calendar, periods and local days against published calendars and the zone database."""

from datetime import date, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.calendar import FiscalCalendar, local_days, midnight_ending
from wise_tally.core.errors import UnknownPeriod


def test_iso_weeks_of_the_standard():
    """ISO 8601's own examples: 2008-12-29 is 2009-W01, 2010-01-03 is 2009-W53 (from memory)."""
    calendar = FiscalCalendar(1)
    assert calendar.containing(date(2008, 12, 29), "week").text == "2009-W01"
    assert calendar.containing(date(2010, 1, 3), "week").text == "2009-W53"
    with pytest.raises(UnknownPeriod, match=r"Use one of|Choose|next to"):
        calendar.parse("2026-W54")


def test_fiscal_years_as_published():
    """U.S. federal year: FY2026 runs from 1 October 2025 (31 U.S.C. 1102)."""
    federal = FiscalCalendar(10).parse("FY2026")
    assert (federal.starts_on, federal.ends_on) == (date(2025, 10, 1), date(2026, 9, 30))
    quarter = FiscalCalendar(4).parse("FY2026-Q4")
    assert (quarter.starts_on, quarter.ends_on) == (date(2026, 1, 1), date(2026, 3, 31))
    assert FiscalCalendar(1).parse("FY2026-M02").ends_on == date(2026, 2, 28)


@given(
    st.integers(1, 12),
    st.dates(date(1950, 1, 1), date(2150, 1, 1)),
    st.sampled_from(["year", "quarter", "month", "week"]),
)
def test_periods_tile_the_calendar(start_month, day, kind):
    calendar = FiscalCalendar(start_month)
    period = calendar.containing(day, kind)
    assert period.starts_on <= day <= period.ends_on
    assert (calendar.shifted(period, 1).starts_on - period.ends_on).days == 1
    assert calendar.shifted(calendar.shifted(period, 3), -3) == period == calendar.parse(period.text)


@pytest.mark.parametrize(
    "text", ["FY26", "FY2026-Q5", "FY2026-M13", "Q1", "2026-02-30/2026-03-01", "2026-03-02/2026-03-01", ""]
)
def test_what_is_no_period_says_what_is_accepted(text):
    with pytest.raises(UnknownPeriod, match=r"FY2026|before it starts"):
        FiscalCalendar(4).parse(text)


@given(
    st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)),
    st.sampled_from(["Europe/Dublin", "America/Sao_Paulo", "Asia/Kolkata"]),
)
def test_local_days_agree_with_the_zone_database(naive_moment, zone):
    """Ruling 1: as of D is strictly before the local midnight that ends D."""
    moment = naive_moment.replace(microsecond=0, tzinfo=ZoneInfo("UTC"))
    day = moment.astimezone(ZoneInfo(zone)).date()
    seconds = int(moment.timestamp())
    assert local_days(np.array([seconds]), zone)[0] == day.toordinal()
    assert seconds < midnight_ending(day, zone)
