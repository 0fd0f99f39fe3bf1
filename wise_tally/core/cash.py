"""When money of a deal is due: one sum, instalments, or recurring."""

import calendar
from dataclasses import dataclass
from datetime import date

MONTHS = {"month": 1, "quarter": 3, "year": 12}


@dataclass(frozen=True)
class Plan:
    """An amount due once, or every month, quarter or year; `times` None recurs without end. Minor units."""

    due_on: date
    amount_minor: int
    every: str = ""
    times: int | None = None


@dataclass(frozen=True)
class Due:
    """An amount due on a day, in minor units."""

    on: date
    amount_minor: int


def dues(plan: Plan, until: date) -> tuple[Due, ...]:
    """What is due up to and with `until`. A day that a month lacks falls on its last. Source: common practice."""
    if not plan.every:
        return (Due(plan.due_on, plan.amount_minor),) if plan.due_on <= until else ()
    found: list[Due] = []
    while plan.times is None or len(found) < plan.times:
        on = _months_later(plan.due_on, MONTHS[plan.every] * len(found))
        if on > until:
            break
        found.append(Due(on, plan.amount_minor))
    return tuple(found)


def whole_minor(plan: Plan) -> int | None:
    """All of a plan together; None where it recurs without end."""
    if not plan.every:
        return plan.amount_minor
    return None if plan.times is None else plan.amount_minor * plan.times


def _months_later(day: date, months: int) -> date:
    place = day.year * 12 + day.month - 1 + months
    year, month = place // 12, place % 12 + 1
    return date(year, month, min(day.day, calendar.monthrange(year, month)[1]))
