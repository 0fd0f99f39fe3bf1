"""When money of a deal is due: one sum, instalments, or recurring."""

import calendar
from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.money import Ints, sum_by_group

EPOCH = date(1970, 1, 1).toordinal()
NEVER = np.iinfo(np.int64).max
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


@dataclass(frozen=True)
class PlanRows:
    """Payment plans of many deals, shape (plans,): the deal, the first day (ordinal), the amount in minor units, the
    months between dues (0 once), how many times (-1 without end)."""

    deal: Ints
    due_on: Ints
    amount_minor: Ints
    every_months: Ints
    times: Ints


def first_dues(plans: PlanRows, deals: int) -> Ints:
    """Day of the first payment of each deal, 0 for none; shape (deals,)."""
    first = np.full(deals, NEVER)
    np.minimum.at(first, plans.deal, plans.due_on)
    return np.where(first == NEVER, 0, first)


def first_year_minor(plans: PlanRows, first_due: Ints) -> Ints:
    """What is due in the twelve months from each deal's first payment, in minor units; shape (deals,).

    Source: own definition; see the rules of computation.
    """
    until = months_later_days(first_due, 12)[plans.deal]
    dues_in_year = np.where(plans.due_on < until, 1, 0)
    for number in range(1, 12):
        on = months_later_days(plans.due_on, plans.every_months * number)
        goes_on = (plans.every_months > 0) & ((plans.times == -1) | (plans.times > number))
        dues_in_year += goes_on & (on < until)
    return sum_by_group(plans.amount_minor * dues_in_year, plans.deal, len(first_due))


def months_later_days(day: Ints, months: Ints | int) -> Ints:
    """Day ordinals so many months later, shape as given; a day that a month lacks falls on its last. 0 stays 0."""
    at = (np.maximum(day, 1) - EPOCH).astype("datetime64[D]")
    month = at.astype("datetime64[M]")
    offset = (at - month.astype("datetime64[D]")).astype(np.int64)
    later = month + np.asarray(months)
    last = ((later + 1).astype("datetime64[D]") - later.astype("datetime64[D]")).astype(np.int64) - 1
    moved = later.astype("datetime64[D]").astype(np.int64) + np.minimum(offset, last) + EPOCH
    return np.where(day == 0, 0, moved)


def _months_later(day: date, months: int) -> date:
    place = day.year * 12 + day.month - 1 + months
    year, month = place // 12, place % 12 + 1
    return date(year, month, min(day.day, calendar.monthrange(year, month)[1]))
