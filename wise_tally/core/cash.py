"""When money of a deal is due: one sum, instalments, or recurring."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import EPOCH, Period
from wise_tally.core.lines import Filter, credited_lines
from wise_tally.core.money import Ints, sum_by_group, weighted_minor
from wise_tally.core.reference_data import OPEN, WON

NEVER = np.iinfo(np.int64).max


@dataclass(frozen=True)
class Plan:
    """An amount due once, or every month, quarter or year; `times` None recurs without end. Minor units."""

    due_on: date
    amount_minor: int
    every: str = ""
    times: int | None = None


def whole_minor(plan: Plan) -> int | None:
    """All of a plan together; None where it recurs without end."""
    if not plan.every:
        return plan.amount_minor
    return None if plan.times is None else plan.amount_minor * plan.times


KINDS = ("once", "instalments", "recurring")


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
    dates = (np.maximum(day, 1) - EPOCH).astype("datetime64[D]")
    month = dates.astype("datetime64[M]")
    offset = (dates - month.astype("datetime64[D]")).astype(np.int64)
    later = month + np.asarray(months)
    last = ((later + 1).astype("datetime64[D]") - later.astype("datetime64[D]")).astype(np.int64) - 1
    moved = later.astype("datetime64[D]").astype(np.int64) + np.minimum(offset, last) + EPOCH
    return np.where(day == 0, 0, moved)


@dataclass(frozen=True)
class Payments:
    """Single payments due, shape (payments,): place of the deal in the snapshot, place of the period, kind, amount.

    `kind` is the place in KINDS. `amount_minor` is what is due; `value_minor` is all of it for won deals and
    amount × probability, rounded half to even per payment, for open ones.
    """

    rows: Ints
    period: Ints
    kind: Ints
    day: Ints
    amount_minor: Ints
    value_minor: Ints

    def take(self, keep: Flags) -> "Payments":
        """The payments kept."""
        columns = (self.rows, self.period, self.kind, self.day, self.amount_minor, self.value_minor)
        return Payments(*(column[keep] for column in columns))


@dataclass(frozen=True)
class CashPeriod:
    """What is due in one period, in minor units: of won deals in full, of open ones weighted; by kind of plan each."""

    period: Period
    won: tuple[int, ...]
    open: tuple[int, ...]

    @property
    def won_minor(self) -> int:
        """All that won deals bring."""
        return sum(self.won)

    @property
    def open_minor(self) -> int:
        """All that open deals may bring, weighted."""
        return sum(self.open)

    @property
    def all_minor(self) -> int:
        """Both together."""
        return self.won_minor + self.open_minor


def payments_in(book: Book, snapshot: BookAsOf, plans: PlanRows, periods: Sequence[Period], scope: Filter) -> Payments:
    """What won and open counted deals of the scope are due to pay in periods that follow one another.

    A person's or team's are the credited parts of each payment, largest remainder. Source: common practice.
    """
    index = np.searchsorted(snapshot.deal, plans.deal)
    row = np.minimum(index, max(len(snapshot.deal) - 1, 0))
    there = (snapshot.deal[row] == plans.deal) if len(snapshot.deal) else np.zeros(len(index), dtype=bool)
    counted = np.array([category.counted for category in book.reference.categories] + [False], dtype=bool)
    paying = there.copy()
    kind, category = snapshot.kind[row[there]], snapshot.category[row[there]]
    paying[there] = (kind == WON) | ((kind == OPEN) & counted[category])
    plans = PlanRows(*(getattr(plans, name)[paying] for name in PlanRows.__dataclass_fields__))
    payments = _occurrences(plans, row[paying], periods, snapshot)
    return _credited(book, snapshot, payments, scope)


def _occurrences(plans: PlanRows, deal_rows: Ints, periods: Sequence[Period], snapshot: BookAsOf) -> Payments:
    """Every due day inside the periods; a plan without end goes on to the last of them."""
    first, last = periods[0].starts_on.toordinal(), periods[-1].ends_on.toordinal()
    ends = np.array([period.ends_on.toordinal() for period in periods])
    # Several dated parts of one deal are instalments, as is an amount paid a number of times.
    single = plans.every_months == 0
    parts = np.bincount(plans.deal[single], minlength=int(plans.deal.max(initial=0)) + 1)[plans.deal]
    kind = np.where(single & (parts < 2), 0, np.where(plans.times == -1, 2, 1))
    kind = np.where(single & (parts > 1), 1, kind)
    columns: list[tuple[Ints, Ints]] = []
    going, number = np.arange(len(deal_rows)), 0
    while len(going):
        on = months_later_days(plans.due_on[going], plans.every_months[going] * number)
        inside = (on >= first) & (on <= last)
        columns.append((going[inside], on[inside]))
        number += 1
        times, every = plans.times[going], plans.every_months[going]
        going = going[(on <= last) & (every > 0) & ((times == -1) | (times > number))]
    nothing = np.zeros(0, dtype=np.int64)
    rows = np.concatenate([nothing, *(column[0] for column in columns)])
    day = np.concatenate([nothing, *(column[1] for column in columns)])
    amount = plans.amount_minor[rows]
    value = weighted_minor(amount, snapshot.probability_bp[deal_rows[rows]])
    return Payments(deal_rows[rows], np.searchsorted(ends, day), kind[rows], day, amount, value)


def _credited(book: Book, snapshot: BookAsOf, payments: Payments, scope: Filter) -> Payments:
    """The parts of payments that the scope keeps. Several payments of one deal are divided each by itself."""
    if scope == Filter():
        return payments
    lines = credited_lines(book, snapshot, scope, "company")
    order = np.argsort(lines.rows, kind="stable")
    row_of = lines.rows[order]
    first, after = (np.searchsorted(row_of, payments.rows, side=side) for side in ("left", "right"))
    number = after - first
    rows = np.repeat(np.arange(len(payments.rows)), number)
    within = np.arange(len(rows)) - np.repeat(np.cumsum(number) - number, number)
    line = order[np.repeat(first, number) + within]
    repeated = payments.take(rows)
    # One column of whole values a round: the n-th payment of every deal, divided like any value of a deal.
    turn = _turns(payments.rows)[rows]
    amount, value = np.zeros(len(rows), dtype=np.int64), np.zeros(len(rows), dtype=np.int64)
    for one in range(int(turn.max(initial=-1)) + 1):
        of_turn = turn == one
        for column, target in ((repeated.amount_minor, amount), (repeated.value_minor, value)):
            whole = np.zeros(len(snapshot.deal), dtype=np.int64)
            whole[repeated.rows[of_turn]] = column[of_turn]
            target[of_turn] = lines.parts(whole, book.reference.person_rank)[line[of_turn]]
    return Payments(repeated.rows, repeated.period, repeated.kind, repeated.day, amount, value)


def _turns(rows: Ints) -> Ints:
    """Which payment of its deal each one is, from 0."""
    order = np.argsort(rows, kind="stable")
    ordered = rows[order]
    starts = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1]][: len(ordered)])
    sizes = np.diff(np.r_[starts, len(ordered)])
    turn = np.zeros(len(rows), dtype=np.int64)
    turn[order] = np.arange(len(ordered)) - np.repeat(starts, sizes)
    return turn


def won_and_open(rows: Sequence[CashPeriod]) -> tuple[int, int]:
    """All that won deals bring and that open ones may bring in the periods, in minor units."""
    return sum(row.won_minor for row in rows), sum(row.open_minor for row in rows)


def cash_calendar(snapshot: BookAsOf, payments: Payments, periods: Sequence[Period]) -> tuple[CashPeriod, ...]:
    """The payments added up by period and kind of plan, won and open apart. Cash is no booking: see `forecast`."""
    width = len(KINDS)
    won = snapshot.kind[payments.rows] == WON
    cell = (payments.period * 2 + np.where(won, 0, 1)) * width + payments.kind
    sums = sum_by_group(payments.value_minor, cell, len(periods) * 2 * width).reshape(len(periods), 2, width).tolist()
    return tuple(CashPeriod(one, tuple(w), tuple(o)) for one, (w, o) in zip(periods, sums, strict=True))
