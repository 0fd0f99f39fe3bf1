"""Cumulative won against the cumulative target through the fiscal year, as points to draw."""

from dataclasses import dataclass

from wise_tally.core.calendar import Period
from wise_tally.core.tallies import sums_by_period
from wise_tally.core.targets import Targets, quotas
from wise_tally.scope.line import ScopeLine
from wise_tally.scope.nodes import scope_node, working_query

WIDTH, HEIGHT = 560, 150


@dataclass(frozen=True)
class Month:
    """A month's sums so far, in minor units; `target` None where no quota holds."""

    name: str
    won: int
    target: int | None
    x: int
    working: str


@dataclass(frozen=True)
class Cumulative:
    """The chart: months, the area under won, the target line, gridlines."""

    months: list[Month]
    area: str
    target_line: str
    won: int
    target: int | None
    working: str
    now_x: int
    now_y: int
    end_y: int
    lines: list[tuple[int, int]]


def cumulative(line: ScopeLine) -> Cumulative:
    """The fiscal year that the scope's period ends in, month by month up to the as-of day."""
    fiscal = line.book.ground.fiscal
    year = fiscal.fiscal_year_of(line.period.ends_on)
    periods = fiscal.months_of(year)
    won = [row.won for row in sums_by_period(line.book, line.standing, periods, line.scope)]
    by, node, token = scope_node(line)
    target = [_quota(quotas(line.book.ground, line.as_of, p), by, node) for p in periods]
    carried = line.scope.process == -1 and line.scope.territory == -1
    months, won_sum, target_sum = [], 0, 0
    for number, period in enumerate(periods):
        won_sum += won[number]
        target_sum += target[number] or 0
        shown = target_sum if carried and target_sum else None
        so_far = fiscal.parse(f"{periods[0].starts_on}/{period.ends_on}")
        query = working_query(line, token, so_far)
        months.append(Month(f"{period.starts_on:%b}"[0], won_sum, shown, (number + 1) * WIDTH // 12, query))
    largest = max([1, won_sum, *(m.target or 0 for m in months)])
    passed = [m for m, p in zip(months, periods, strict=True) if p.starts_on <= line.as_of]
    area = [(0, 0), *((m.x, m.won) for m in passed)]
    points = " ".join(f"{x},{_y(value, largest)}" for x, value in area)
    now_x = area[-1][0]
    return Cumulative(
        months=months,
        area=f"{points} {now_x},{HEIGHT} 0,{HEIGHT}",
        target_line=" ".join(["0," + str(HEIGHT), *(f"{m.x},{_y(m.target, largest)}" for m in months if m.target)]),
        won=won_sum,
        target=months[-1].target,
        working=working_query(line, token, _year(line, year)),
        now_x=now_x,
        now_y=_y(won_sum, largest),
        end_y=_y(months[-1].target or 0, largest),
        lines=[(largest * step // 4, _y(largest * step // 4, largest)) for step in range(1, 5)],
    )


def _year(line: ScopeLine, year: int) -> Period:
    return line.book.ground.fiscal.part(year, "year", 1)


def _quota(targets: Targets, by: str, node: int) -> int | None:
    return targets.of(by, node).value


def _y(value: int, largest: int) -> int:
    return HEIGHT - value * (HEIGHT - 10) // largest
