"""What was submitted for a period as it stood week by week, beside what was weighted and won on the same days."""

from dataclasses import dataclass
from datetime import date, timedelta

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.daily_trend import trend
from wise_tally.core.derived import derived
from wise_tally.core.forecast import calls_of_rows
from wise_tally.core.lines import Filter

# As many weeks as a quarter has and the day of the end; a longer period takes longer steps.
MOST_DAYS = 14


@dataclass(frozen=True)
class CoursePoint:
    """The figures at the end of a day, in minor units; `submitted` is None where nothing can be submitted for the node."""

    day: date
    submitted: int | None
    weighted: int
    won: int


def shown_days(first: date, last: date) -> list[date]:
    """The last day and those before it in equal steps of whole weeks, the first of the period among them at most."""
    weeks = max(1, -(-(last - first).days // (7 * (MOST_DAYS - 1))))
    count = (last - first).days // (7 * weeks)
    return [last - timedelta(weeks=weeks * step) for step in range(count, -1, -1)]


@derived(most=24)
def submitted_course(
    book: Book, period: Period, last: date, scope: Filter, node: tuple[str, int]
) -> tuple[CoursePoint, ...]:
    """Submitted, weighted and won of the scope's `node` (breakdown and index) in steps of weeks up to `last`.

    Each day's figures equal those of the submitted forecasts as of that day. Source: common practice.
    """
    days = shown_days(min(period.starts_on, last), last)
    by_day = trend(book, period, days[0], last, scope)
    by, index = node
    course = []
    for day in days:
        snapshot = book.as_of(day) if day == last else book.looked_back(day)
        submitted = calls_of_rows(book, snapshot, period, scope, by)(index)
        offset = (day - days[0]).days
        course.append(CoursePoint(day, submitted, int(by_day.weighted[offset]), int(by_day.won[offset])))
    return tuple(course)
