"""Comparing a period with an earlier one: a running period meets as many of its days, a whole only a whole.

Every comparison of two periods on any page goes through `same_days`.
"""

import calendar
from datetime import date, timedelta

from wise_tally.core.calendar import MONTHS_IN, FiscalCalendar, Period

BEFORE, YEAR = ("before", "year")
WEEKS_IN_YEAR = 52


def year_before(day: date) -> date:
    """The same day of the year before: min(day, last day of that month); 28 February meets 28, never 29."""
    return _months_before(day, 12)


def _months_before(day: date, months: int) -> date:
    index = day.year * 12 + day.month - 1 - months
    month = date(index // 12, index % 12 + 1, 1)
    return month.replace(day=min(day.day, calendar.monthrange(month.year, month.month)[1]))


def same_days(
    fiscal: FiscalCalendar, period: Period, as_of: date, against: str = BEFORE
) -> tuple[Period, Period | None]:
    """A period up to a day, and the span that it is compared with: of the period before, or of the year before.

    A period that is over is taken whole and meets the whole one; one that has not begun meets none, as nothing of it has
    passed. A running one is cut at `as_of`, both ends included, and meets the other cut at the same day of its month
    (min(day, last day)); weeks, and spans of days, at as many days, which of weeks is the same weekday. Source: common
    practice; ruling on same days.
    """
    if as_of < period.starts_on:
        return period, None
    running = as_of < period.ends_on
    last = as_of if running else period.ends_on
    if against == YEAR:
        if period.kind == "week":
            back = timedelta(weeks=WEEKS_IN_YEAR)
            return _cut(period, last), _span(period.starts_on - back, last - back)
        return _cut(period, last), _span(year_before(period.starts_on), year_before(last))
    before = fiscal.shifted(period, -1)
    if not running:
        return period, before
    months = MONTHS_IN.get(period.kind)
    end = _months_before(as_of, months) if months else as_of - timedelta(days=period.days)
    return _cut(period, last), _span(before.starts_on, end)


def is_over(period: Period, as_of: date) -> bool:
    """Whether all days of a period have passed or pass with `as_of`."""
    return as_of >= period.ends_on


def _cut(period: Period, last: date) -> Period:
    return period if last == period.ends_on else _span(period.starts_on, last)


def _span(first: date, last: date) -> Period:
    return Period(first, last, "span", f"{first}/{last}")
