"""Days as people write them: what is read and what is refused. ISO dates: ISO 8601."""

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.day_reader import NotADay, read_day

TODAY, FISCAL = date(2026, 11, 28), FiscalCalendar(4)


@pytest.mark.parametrize(
    ("text", "day"),
    [
        ("2026-12-05", "2026-12-05"), ("2026/12/05", "2026-12-05"), ("5 Dec 2026", "2026-12-05"), ("5 december", "2026-12-05"),
        ("Dec 5, 2026", "2026-12-05"), ("5/12/2026", "2026-12-05"), ("05.12.2026", "2026-12-05"), ("today", "2026-11-28"),
        ("Tomorrow", "2026-11-29"), ("+7", "2026-12-05"), ("- 3 days", "2026-11-25"), ("fri", "2026-12-04"), ("Saturday", "2026-12-05"),
        ("end of month", "2026-11-30"), ("end of quarter", "2026-12-31"), ("end of year", "2027-03-31"), ("29 Feb 2028", "2028-02-29"),
    ],
)  # fmt: skip
def test_days_are_read_as_people_write_them(text, day):
    assert read_day(text, TODAY, FISCAL) == date.fromisoformat(day)
    assert read_day("11/28/2026", TODAY, FISCAL, "mdy") == TODAY


@pytest.mark.parametrize(
    "text",
    ["", "soon", "2026-02-30", "31/4/2026", "28/11/26", "11/28/2026", "20261128", "1899-12-31", "2200-01-01", "+99999", "d",
     "5 Decem 26", "end of week", "13 mai 2026", "٢٨/11/2026"],
)  # fmt: skip
def test_what_is_no_day_is_refused(text):
    with pytest.raises(NotADay):
        read_day(text, TODAY, FISCAL)


@given(st.dates(date(1900, 1, 1), date(2199, 12, 31)))
def test_days_as_the_application_writes_them_are_read_back(day):
    for text in (f"{day:%-d %b %Y}", day.isoformat(), f"{day:%d/%m/%Y}"):
        assert read_day(text, TODAY, FISCAL) == day
    assert read_day(f"{day:%m/%d/%Y}", TODAY, FISCAL, "mdy") == day
