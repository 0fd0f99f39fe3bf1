"""Cumulative won against the cumulative target through the fiscal year, with what is open on top, as points to draw."""

from collections.abc import Callable
from dataclasses import dataclass

from wise_tally.core.attainment import SoFar, so_far
from wise_tally.core.book import BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.nodes import scope_node, working_query
from wise_tally.web.ticks import round_ticks

WIDTH, HEIGHT = 560, 150


@dataclass(frozen=True)
class Month:
    """A month's sums so far, where it stands, and the query of its workings."""

    name: str
    words: str
    sums: SoFar
    with_open: int | None
    x: int
    working: str


@dataclass(frozen=True)
class Cumulative:
    """The chart: months, the area under won, the open on top of it, the target line, gridlines."""

    months: list[Month]
    area: str
    open_area: str
    target_line: str
    won: int
    target: int | None
    open: int | None
    working: str
    lines: list[tuple[int, int]]


def year_of(line: FilterLine) -> Period:
    """The fiscal year that the scope's period ends in."""
    fiscal = line.book.reference.fiscal
    return fiscal.part(fiscal.fiscal_year_of(line.period.ends_on), "year", 1)


def cumulative(
    line: FilterLine, snapshot: BookAsOf | None = None, working: Callable[[Period], str] | None = None
) -> Cumulative:
    """The fiscal year month by month: won up to the as-of day, from there on with what is open on top.

    `snapshot` may count for another measure than the amount; `working` then gives the query of a span's figures.
    """
    year, fiscal = year_of(line), line.book.reference.fiscal
    periods = fiscal.months_of(fiscal.fiscal_year_of(year.ends_on))
    by, node, token = scope_node(line)
    sums = so_far(line.book, snapshot or line.snapshot, periods, line.scope, (by, node))
    query = working or (lambda span: working_query(line, token, span))
    months = []
    for index, one in enumerate(sums):
        span = fiscal.parse(f"{year.starts_on}/{one.period.ends_on}")
        with_open = None if one.open is None else one.won + one.open
        words = period_words(one.period)
        months.append(Month(words[0], words, one, with_open, (index + 1) * WIDTH // 12, query(span)))
    return _drawn(line, months, query(year))


def _drawn(line: FilterLine, months: list[Month], working: str) -> Cumulative:
    ticks = round_ticks(max([1, *(max(m.sums.won, m.with_open or 0, m.sums.target or 0) for m in months)]))
    largest = ticks[-1]
    passed = [m for m in months if m.sums.period.starts_on <= line.as_of]
    ahead = [m for m in months if m.with_open is not None]
    won = [(0, 0), *((m.x, m.sums.won) for m in passed)]
    now_x = won[-1][0]
    points = " ".join(f"{x},{_y(value, largest)}" for x, value in won)
    over = ""
    if ahead and passed:
        # The open begins on top of what is won at the as-of day's month and stands on won to the year's end.
        top = [(m.x, m.with_open or 0) for m in ahead]
        foot = [(m.x, m.sums.won) for m in reversed(ahead)]
        before = [(now_x, won[-1][1])] if now_x < ahead[0].x else []
        over = " ".join(f"{x},{_y(value, largest)}" for x, value in [*before, *top, *foot])
    last = months[-1]
    return Cumulative(
        months=months,
        area=f"{points} {now_x},{HEIGHT} 0,{HEIGHT}",
        open_area=over,
        target_line=" ".join(
            [f"0,{HEIGHT}", *(f"{m.x},{_y(m.sums.target, largest)}" for m in months if m.sums.target is not None)]
        ),
        won=last.sums.won,
        target=last.sums.target,
        open=last.sums.open,
        working=working,
        lines=[(tick, _y(tick, largest)) for tick in ticks],
    )


def _y(value: int | None, largest: int) -> int:
    return HEIGHT - (value or 0) * (HEIGHT - 10) // largest
