"""A deal's amount and expected close over time, drawn where either was changed."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from zoneinfo import ZoneInfo

from wise_tally.domain.deals.models import Deal
from wise_tally.domain.formats import day, money
from wise_tally.web.charts import Chart, Layer, Point, money_marks
from wise_tally.web.filter_line import FilterLine

MOST_MARKS = 4


@dataclass(frozen=True)
class Since:
    """What was set on a day: the amount in minor units and the expected close as an ordinal, None for none."""

    on: int
    amount: int | None
    close: int | None


def course_charts(line: FilterLine, deal: Deal) -> list[tuple[str, Chart]]:
    """Title and picture of each that changed up to the as-of day."""
    course = _course(line, deal)
    charts = []
    if len({one.amount for one in course}) > 1:
        largest = max(one.amount or 0 for one in course)
        words = [money(one.amount) for one in course]
        chart = _chart("amounts", course, [one.amount for one in course], words, money_marks(largest))
        charts.append(("Amount over time", chart))
    if len({one.close for one in course}) > 1:
        closes = [one.close for one in course]
        marks = _day_marks([close for close in closes if close])
        chart = _chart("closes", course, closes, [day(close) for close in closes], marks, low=marks[0][0])
        charts.append(("Expected close over time", chart))
    return charts


def _course(line: FilterLine, deal: Deal) -> list[Since]:
    """What held from each day on at its end, and on the as-of day; entries undone at once count nowhere."""
    zone, by_day = ZoneInfo(line.book.reference.time_zone), {}
    rows = deal.revisions.filter(void=False, effective_at__lt=line.ends_at).order_by("pk")
    for row in rows:
        on = row.effective_at.astimezone(zone).date().toordinal()
        by_day[on] = Since(on, row.amount_minor, row.expected_close.toordinal() if row.expected_close else None)
    course = [by_day[on] for on in sorted(by_day)]
    last = line.as_of.toordinal()
    return [*course, Since(last, course[-1].amount, course[-1].close)] if course and course[-1].on < last else course


def _chart(
    key: str,
    course: Sequence[Since],
    values: Sequence[int | None],
    words: Sequence[str],
    marks: Sequence[tuple[float, str]],
    low: float = 0,
) -> Chart:
    """Steps from one change to the next."""
    first, last = course[0].on, course[-1].on
    return Chart(
        key=key,
        conclusion=f"From {words[0]} to {words[-1]}",
        points=[Point(day(one.on), [("", text)]) for one, text in zip(course, words, strict=True)],
        layers=[Layer("line", "main", values, steps=True), Layer("dots", "value", [*values[:-1], None])],
        y_words=marks,
        x_words=[(first, day(first)), (last, day(last))],
        places=[one.on for one in course],
        edges=True,
        low=low,
        height=150,
    )


def _day_marks(days: Sequence[int]) -> list[tuple[float, str]]:
    """First days of months from the one at or before the earliest to the one after the latest."""
    firsts = [date.fromordinal(min(days)).replace(day=1)]
    while firsts[-1].toordinal() <= max(days):
        firsts.append((firsts[-1] + timedelta(days=32)).replace(day=1))
    step = -(-(len(firsts) - 1) // MOST_MARKS)
    return [(one.toordinal(), f"{one:%b ’%y}") for one in [*firsts[:-1:step], firsts[-1]]]
