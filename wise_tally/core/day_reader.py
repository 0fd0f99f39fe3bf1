"""Days as people write them: 2026-11-28, 28 Nov 2026, 28/11/2026, today, +7, fri, end of quarter."""

import re
from collections.abc import Callable
from datetime import date, timedelta
from typing import Literal

from wise_tally.core.calendar import FiscalCalendar

DayOrder = Literal["dmy", "mdy"]
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
NAMED = {"yesterday": -1, "today": 0, "tomorrow": 1}
FIRST_YEAR, LAST_YEAR = 1900, 2199


class NotADay(ValueError):
    """A text that is no day."""


def read_day(text: str, today: date, fiscal: FiscalCalendar, order: DayOrder = "dmy") -> date:
    """The day that a text writes, from 1900 to 2199; raises NotADay.

    A weekday is the next one after today; “+7” counts days from today; ends are of the fiscal month, quarter or year that
    holds today. Numbers alone are read in the order given, but with the year in front.
    """
    plain = " ".join(text.casefold().replace(",", " ").split())
    if (day := _iso(plain)) is not None:
        return _checked(day, text)
    for reader in (_named, _weekday, _offset):
        if (day := reader(plain, today)) is not None:
            return _checked(day, text)
    if match := re.fullmatch(r"end of (month|quarter|year)", plain):
        return fiscal.containing(today, match[1]).ends_on
    return _checked(_with_month_name(plain, today) or _numbers(plain, order), text)


def iso_day(text: str) -> date:
    """The day that YYYY-MM-DD writes, from 1900 to 2199; raises NotADay."""
    return _checked(_iso(text), text)


def read_span(text: str, today: date, fiscal: FiscalCalendar) -> tuple[date, date]:
    """First and last day of what a text writes: this, next or last week, month, quarter or year (fiscal), next or last n days.

    Days that follow begin with today, those that are past end with it. Raises NotADay.
    """
    plain = " ".join(text.casefold().split())
    if match := re.fullmatch(r"(this|next|last) (week|month|quarter|year)", plain):
        step = {"this": 0, "next": 1, "last": -1}[match[1]]
        period = fiscal.shifted(fiscal.containing(today, match[2]), step)
        return period.starts_on, period.ends_on
    match = re.fullmatch(r"(next|last) (\d{1,4}) days?", plain, re.ASCII)
    if not match or not int(match[2]):
        raise NotADay(text)
    reach = timedelta(days=int(match[2]) - 1)
    return (today, today + reach) if match[1] == "next" else (today - reach, today)


def _checked(day: date | None, text: str) -> date:
    if day is None or not FIRST_YEAR <= day.year <= LAST_YEAR:
        raise NotADay(text)
    return day


def _or_none(build: Callable[[], date]) -> date | None:
    try:
        return build()
    except (ValueError, OverflowError):
        return None


def _iso(plain: str) -> date | None:
    return _or_none(lambda: date.fromisoformat(plain)) if re.fullmatch(r"\d{4}-\d\d-\d\d", plain, re.ASCII) else None


def _named(plain: str, today: date) -> date | None:
    return today + timedelta(days=NAMED[plain]) if plain in NAMED else None


def _weekday(plain: str, today: date) -> date | None:
    weekday = next(
        (weekday for weekday, name in enumerate(map(str.casefold, WEEKDAYS)) if plain in (name, name[:3])), None
    )
    return None if weekday is None else today + timedelta(days=(weekday - today.weekday() - 1) % 7 + 1)


def _offset(plain: str, today: date) -> date | None:
    match = re.fullmatch(r"([+-])\s?(\d{1,4})(?: ?d(?:ays?)?)?", plain, re.ASCII)
    if not match:
        return None
    return _or_none(lambda: today + timedelta(days=int(match[1] + match[2])))


def _with_month_name(plain: str, today: date) -> date | None:
    """28 nov 2026, nov 28 2026; without a year that of today."""
    match = re.fullmatch(r"(\d{1,2})\.? ([a-z]{3,9})\.?(?: (\d{4}))?", plain, re.ASCII)
    day, name, year = (match[1], match[2], match[3]) if match else ("", "", "")
    if not match and (match := re.fullmatch(r"([a-z]{3,9})\.? (\d{1,2})(?: (\d{4}))?", plain, re.ASCII)):
        day, name, year = match[2], match[1], match[3]
    if name[:3] not in MONTHS:
        return None
    return _or_none(lambda: date(int(year or today.year), MONTHS.index(name[:3]) + 1, int(day)))


def _numbers(plain: str, order: DayOrder) -> date | None:
    """28/11/2026, 28.11.2026, 11-28-2026, 2026/11/28."""
    match = re.fullmatch(r"(\d{1,4})([/.\- ])(\d{1,2})\2(\d{1,4})", plain, re.ASCII)
    if not match:
        return None
    first, second, third = int(match[1]), int(match[3]), int(match[4])
    if len(match[1]) == 4:
        return _or_none(lambda: date(first, second, third))
    if len(match[4]) != 4:
        return None
    return _or_none(lambda: date(third, second, first) if order == "dmy" else date(third, first, second))
