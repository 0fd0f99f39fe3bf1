"""Cumulative won against the cumulative target through the fiscal year, with what is open on top, as points to draw."""

from collections.abc import Callable
from dataclasses import dataclass

from django.urls import reverse

from wise_tally.core.attainment import SoFar, so_far
from wise_tally.core.book import BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.domain.formats import day, hundredths, short
from wise_tally.web.charts import Chart, Layer, Point, money_marks, month_words, number_marks
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.nodes import scope_node, working_query


@dataclass(frozen=True)
class Month:
    """A month's sums so far, and the query of its workings."""

    words: str
    sums: SoFar
    with_open: int | None
    working: str


@dataclass(frozen=True)
class Cumulative:
    """The fiscal year month by month, its picture, and what it comes to, in the unit of the measure."""

    months: list[Month]
    chart: Chart
    won: int
    target: int | None
    open: int | None
    working: str


def year_of(line: FilterLine) -> Period:
    """The fiscal year that the scope's period ends in."""
    fiscal = line.book.reference.fiscal
    return fiscal.part(fiscal.fiscal_year_of(line.period.ends_on), "year", 1)


def cumulative(
    line: FilterLine,
    snapshot: BookAsOf | None = None,
    working: Callable[[Period], str] | None = None,
    in_money: bool = True,
    key: str = "year",
) -> Cumulative:
    """The fiscal year month by month: won up to the as-of day, from there on with what is open on top.

    `snapshot` may count for another measure than the amount; `working` then gives the query of a span's figures, and
    without `in_money` they are hundredths of numbers. `key` names the picture on its page.
    """
    year, fiscal = year_of(line), line.book.reference.fiscal
    periods = fiscal.months_of(fiscal.fiscal_year_of(year.ends_on))
    by, node, token = scope_node(line)
    sums = so_far(line.book, snapshot or line.snapshot, periods, line.scope, (by, node))
    query = working or (lambda span: working_query(line, token, span))
    months = []
    for one in sums:
        span = fiscal.parse(f"{year.starts_on}/{one.period.ends_on}")
        with_open = None if one.open is None else one.won + one.open
        months.append(Month(period_words(one.period), one, with_open, query(span)))
    last = months[-1].sums
    return Cumulative(months, _chart(line, months, in_money, key), last.won, last.target, last.open, query(year))


def _chart(line: FilterLine, months: list[Month], in_money: bool, key: str) -> Chart:
    """Won so far, what is open on top of it, and the quota, from the first day to the end of each month."""
    write = short if in_money else hundredths
    passed = [m.sums.period.starts_on <= line.as_of for m in months]
    won = [0, *(m.sums.won if yes else None for m, yes in zip(months, passed, strict=True))]
    target = [0 if months[-1].sums.target is not None else None, *(m.sums.target for m in months)]
    now = sum(passed)
    # The open begins on what is won by the month of the as-of day.
    top = [m.with_open for m in months]
    open_top = [None if i < now else won[now] if i == now else value for i, value in enumerate([None, *top])]
    foot = [None if value is None else won[now] for value in open_top]
    largest = max([1, *(v for v in (*won, *open_top, *target) if v is not None)])
    starts = [m.sums.period.starts_on for m in months]
    points = [Point(day(starts[0]), [("won", write(0))])] + [
        _point(m, yes, write) for m, yes in zip(months, passed, strict=True)
    ]
    return Chart(
        key=key,
        conclusion=f"Won so far {write(months[-1].sums.won)} against the year’s quota {write(months[-1].sums.target)}",
        points=points,
        layers=[
            Layer("area", "won", won),
            Layer("area", "best", open_top, foot),
            Layer("line", "goal", target, label="quota" if months[-1].sums.target is not None else ""),
        ],
        y_words=money_marks(largest) if in_money else [(v * 100, w) for v, w in number_marks(-(-largest // 100))],
        # Each month's sums stand at its end; the words of the months stand where they begin.
        x_words=month_words(starts),
        edges=True,
        enter="shows how the won amount is calculated",
    )


def _point(month: Month, passed: bool, write: Callable[[int | None], str]) -> Point:
    rows = [("won so far", write(month.sums.won))] if passed else []
    rows += [("quota to date", write(month.sums.target))] if month.sums.target is not None else []
    rows += [("with open pipeline", write(month.with_open))] if month.with_open is not None else []
    href = f"{reverse('forecast:working', args=['won'])}?{month.working}"
    return Point(f"to the end of {month.words}", rows, href, panel=True)
