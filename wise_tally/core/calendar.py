"""Fiscal calendar, periods and local days.

Days are proleptic ordinals (`date.toordinal()`); moments are whole seconds since 1970-01-01 UTC.
"""

import re
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np

from wise_tally.core.errors import UnknownPeriod
from wise_tally.core.money import Ints

ACCEPTED = "FY2026, FY2026-Q2, FY2026-M02, 2026-W14 or two dates such as 2026-04-01/2026-06-30"
NO_DAY = 0
MONTHS_IN = {"year": 12, "quarter": 3, "month": 1}
FISCAL = re.compile(r"FY(\d{4})(?:-(?:Q([1-4])|M(0[1-9]|1[0-2])))?", re.ASCII)
WEEK = re.compile(r"(\d{4})-W(\d{2})", re.ASCII)
SPAN = re.compile(r"(\d{4}-\d{2}-\d{2})/(\d{4}-\d{2}-\d{2})", re.ASCII)
EPOCH = date(1970, 1, 1).toordinal()


@dataclass(frozen=True)
class Period:
    """A span of local dates, both ends included. `kind`: year, quarter, month, week or span."""

    starts_on: date
    ends_on: date
    kind: str
    text: str

    @property
    def days(self) -> int:
        """Number of days in the period."""
        return (self.ends_on - self.starts_on).days + 1


@dataclass(frozen=True)
class FiscalCalendar:
    """Fiscal years that start on the first of `start_month` and bear the calendar year of their end."""

    start_month: int

    def fiscal_year_of(self, day: date) -> int:
        """The name of the fiscal year that `day` falls in."""
        return day.year + (1 if self.start_month > 1 and day.month >= self.start_month else 0)

    def part(self, year: int, kind: str, number: int) -> Period:
        """Year, quarter or month `number` (from 1) of fiscal year `year`."""
        length = MONTHS_IN[kind]
        first_year = year - (1 if self.start_month > 1 else 0)
        months_before = self.start_month - 1 + (number - 1) * length
        start = _month_start(first_year, months_before)
        end = _month_start(first_year, months_before + length) - timedelta(days=1)
        suffix = {"year": "", "quarter": f"-Q{number}", "month": f"-M{number:02}"}[kind]
        return Period(start, end, kind, f"FY{year:04}{suffix}")

    def containing(self, day: date, kind: str) -> Period:
        """The year, quarter, month or ISO week that `day` falls in."""
        if kind == "week":
            iso = day.isocalendar()
            return self.week(iso.year, iso.week)
        month = (day.month - self.start_month) % 12
        return self.part(self.fiscal_year_of(day), kind, month // MONTHS_IN[kind] + 1)

    def week(self, year: int, number: int) -> Period:
        """ISO 8601 week; raises UnknownPeriod where the year has no such week."""
        try:
            monday = date.fromisocalendar(year, number, 1)
            sunday = monday + timedelta(days=6)
        except (ValueError, OverflowError):
            raise UnknownPeriod(f"There is no week {year}-W{number:02}. Use one of: {ACCEPTED}.") from None
        return Period(monday, sunday, "week", f"{year:04}-W{number:02}")

    def parse(self, text: str) -> Period:
        """The period that `text` names; raises UnknownPeriod, whose message says what is accepted."""
        try:
            if match := FISCAL.fullmatch(text):
                year, quarter, month = match.groups()
                kind = "quarter" if quarter else "month" if month else "year"
                return self.part(int(year), kind, int(quarter or month or 1))
            if match := WEEK.fullmatch(text):
                return self.week(int(match[1]), int(match[2]))
            if match := SPAN.fullmatch(text):
                return self._span(date.fromisoformat(match[1]), date.fromisoformat(match[2]))
        except UnknownPeriod:
            raise
        except (ValueError, OverflowError):
            pass
        raise UnknownPeriod(f"“{text}” is not a valid period. Use for example {ACCEPTED}.")

    def _span(self, starts_on: date, ends_on: date) -> Period:
        if ends_on < starts_on:
            raise UnknownPeriod(
                f"The period ends before it starts. Choose an end date on or after {starts_on:%-d %b %Y}."
            )
        return Period(starts_on, ends_on, "span", f"{starts_on}/{ends_on}")

    def shifted(self, period: Period, step: int) -> Period:
        """The period `step` places later (negative: earlier) of the same kind and length.

        Raises UnknownPeriod beyond the years 1 to 9999.
        """
        try:
            if period.kind in MONTHS_IN:
                length = MONTHS_IN[period.kind]
                start = _month_start(period.starts_on.year, period.starts_on.month - 1 + step * length)
                return self.containing(start, period.kind)
            moved = timedelta(days=period.days * step)
            starts_on, ends_on = period.starts_on + moved, period.ends_on + moved
        except (ValueError, OverflowError):
            raise UnknownPeriod(f"There is no period next to {period.text}.") from None
        return self.containing(starts_on, "week") if period.kind == "week" else self._span(starts_on, ends_on)

    def months_of(self, year: int) -> tuple[Period, ...]:
        """The twelve months of fiscal year `year`, in order."""
        return tuple(self.part(year, "month", number) for number in range(1, 13))


def _month_start(year: int, months_after_january: int) -> date:
    return date(year + months_after_january // 12, months_after_january % 12 + 1, 1)


@lru_cache(maxsize=4096)
def midnight_ending(day: date, time_zone: str) -> int:
    """The moment of the local midnight that ends `day`, in seconds since 1970 UTC."""
    following = day + timedelta(days=1)
    return int(datetime(following.year, following.month, following.day, tzinfo=ZoneInfo(time_zone)).timestamp())


@lru_cache(maxsize=32)
def _midnights(first_day: int, last_day: int, time_zone: str) -> Ints:
    zone = ZoneInfo(time_zone)
    starts = (datetime.fromordinal(day).replace(tzinfo=zone).timestamp() for day in range(first_day, last_day + 1))
    return np.fromiter(starts, dtype=np.int64)


def local_days(moments: Ints, time_zone: str) -> Ints:
    """The local date (ordinal) of each moment, shape as given."""
    if len(moments) == 0:
        return np.zeros(0, dtype=np.int64)
    first_year = date.fromordinal(EPOCH + int(moments.min()) // 86_400 - 2).year
    last_year = date.fromordinal(EPOCH + int(moments.max()) // 86_400 + 2).year
    # Whole years keep the cache of midnights small and shared between calls.
    first, last = date(first_year, 1, 1).toordinal(), date(last_year, 12, 31).toordinal()
    midnights = _midnights(first, last, time_zone)
    # A local day is the UTC day or the one beside it, so two comparisons take the place of a search.
    day = moments // 86_400 + (EPOCH - first)
    day = day + (moments >= midnights[day + 1])
    return first + day - (moments < midnights[day])
