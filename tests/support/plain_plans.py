"""Payment plans due by due, a plain loop that the core's computation of many is held against."""

import calendar
from datetime import date

from wise_tally.core.cash import Plan

MONTHS = {"month": 1, "quarter": 3, "year": 12}


def dues(plan: Plan, until: date) -> list[tuple[date, int]]:
    """Days and amounts (minor units) due up to and with `until`. A day that a month lacks falls on its last."""
    if not plan.every:
        return [(plan.due_on, plan.amount_minor)] if plan.due_on <= until else []
    found = []
    while plan.times is None or len(found) < plan.times:
        on = _months_later(plan.due_on, MONTHS[plan.every] * len(found))
        if on > until:
            break
        found.append((on, plan.amount_minor))
    return found


def _months_later(day: date, months: int) -> date:
    place = day.year * 12 + day.month - 1 + months
    year, month = place // 12, place % 12 + 1
    return date(year, month, min(day.day, calendar.monthrange(year, month)[1]))
