"""Tallies: one measure over rows of a breakdown, whatever family it comes from; and the deals behind it.

Values are in minor units, hundredths (numbers of the forecast's other measures), counts, days, or ratios of 0 to 1.
"""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date

import numpy as np
import numpy.typing as npt

from wise_tally.core.activity import DoneActivities, activity_attainment
from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.breakdowns import WITHIN, grouping
from wise_tally.core.calendar import FiscalCalendar, Period, local_days
from wise_tally.core.cash import PlanRows, payments_in
from wise_tally.core.dashboard_counts import open_by_stage
from wise_tally.core.deal_list import overstaying, slip_moves
from wise_tally.core.derived import derived
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.figure import Family, Figure, Number
from wise_tally.core.figures import REPORTED
from wise_tally.core.forecast import forecast
from wise_tally.core.leads import LeadRows, leads_in
from wise_tally.core.lines import Filter, credited_lines, owner_filtered, owner_rows, shown_nodes
from wise_tally.core.measures import AMOUNT, CLOSE, valued
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.outlook.rows import outlook_rows
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.time_in_stage import DaysToWin, days_to_win, time_in_stage, won_in
from wise_tally.core.trees import NONE

STAGE = "stage"


@dataclass(frozen=True)
class TallyValue:
    """A row's value, None where it cannot be computed, `reason` saying why; `sample` are the deals behind a rate, mean or median.

    `holds`: the row has deals, a quota or whatever is counted; one that holds nothing has nothing to show.
    """

    node: int
    key: str | None
    name: str | None
    value: Number
    sample: int | None = None
    reason: str = ""
    holds: bool = True


@dataclass(frozen=True)
class Sides:
    """What tallies count that is no part of the book: activities of the days asked, leads with names, payment plans."""

    done: DoneActivities | None = None
    leads: LeadRows | None = None
    lead_sources: tuple[str, ...] = ()
    plans: PlanRows | None = None


@dataclass(frozen=True)
class TallyQuery:
    """One tally's question: measure and breakdown, what deals count for and by which day."""

    measure: str
    by: str = "company"
    counting: str = AMOUNT
    basis: str = CLOSE


@dataclass(frozen=True)
class TallyTask:
    """What the rows of a tally are computed from."""

    book: Book
    snapshot: BookAsOf
    period: Period
    scope: Filter
    query: TallyQuery
    sides: Sides

    @property
    def figure(self) -> Figure:
        """What is counted."""
        return REPORTED[self.query.measure]


def tally_values(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, query: TallyQuery, sides: Sides
) -> tuple[TallyValue, ...]:
    """The rows of a tally; raises UnknownBreakdown for a breakdown that the measure has not."""
    task = TallyTask(book, snapshot, period, scope, query, sides)
    allowed = task.figure.breakdowns
    second = WITHIN in query.by and not task.figure.may_hold_within
    if second or (allowed is not None and query.by not in allowed):
        raise UnknownBreakdown(f"{query.measure} has no rows by {query.by.replace(WITHIN, ' within ')}.")
    return ROWS_OF[task.figure.family](task)


def _of_forecast(task: TallyTask) -> tuple[TallyValue, ...]:
    counted = valued(task.book, task.snapshot, task.query.counting, task.query.basis)
    rows = attainment(task.book, counted, task.period, task.scope, task.query.by)
    return tuple(_forecast_value(row, task.figure) for row in rows)


def _forecast_value(row: AttainmentRow, figure: Figure) -> TallyValue:
    forecast_row, value = row.forecast, figure.of(row)
    return TallyValue(
        forecast_row.node,
        forecast_row.key,
        forecast_row.name,
        value,
        figure.sample(row) if figure.sample else None,
        figure.why_none(row) if value is None else "",
        forecast_row.quota is not None
        or bool(forecast_row.deals_won or forecast_row.deals_open or forecast_row.deals_lost or value),
    )


def _of_outlook(task: TallyTask) -> tuple[TallyValue, ...]:
    by_node = outlook_rows(task.book, task.snapshot, task.period, task.scope, task.query.by)
    rows = forecast(task.book, task.snapshot, task.period, task.scope, task.query.by)
    return tuple(TallyValue(row.node, row.key, row.name, by_node[row.node].mean) for row in rows if row.node in by_node)


def _of_winning(task: TallyTask) -> tuple[TallyValue, ...]:
    name = "median" if task.query.measure == "days_to_win" else "mean"
    rows = days_to_win(task.book, task.snapshot, task.period, task.scope, task.query.by)
    return tuple(_winning(row, getattr(row, name)) for row in rows)


def _of_activities(task: TallyTask) -> tuple[TallyValue, ...]:
    assert task.sides.done is not None
    rows = activity_attainment(task.book, task.snapshot, task.period, task.scope, task.query.by, task.sides.done)
    return tuple(TallyValue(r.forecast.node, r.forecast.key, r.forecast.name, r.forecast.won // 100) for r in rows)


def _winning(row: DaysToWin, value: float | None) -> TallyValue:
    why = "" if value is not None else "imported without history" if row.deals else "no deals won"
    return TallyValue(row.node, row.key, row.name, value, row.deals, why, row.deals > 0)


@dataclass(frozen=True)
class CountedDeals:
    """Deals that a measure of whole deals counts: rows of the snapshot, what each adds, and to a rate's base (1 a deal else)."""

    rows: Ints
    adds: Ints
    base: Ints

    def take(self, keep: npt.NDArray[np.integer]) -> "CountedDeals":
        """Some of them, by index."""
        return CountedDeals(self.rows[keep], self.adds[keep], self.base[keep])


@derived(most=48)
def counted_deals(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, figure: str) -> CountedDeals:
    """The deals of a figure of whole deals, by owner on the day; average discount: list value and discount of deals won."""
    if REPORTED[figure].family == Family.LINES:
        first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
        inside = (snapshot.closed_on >= first) & (snapshot.closed_on <= last) & (snapshot.kind == WON)
        listed, discount = book.attributes.list_value(), book.attributes.discount()
        rows = np.flatnonzero(inside & owner_filtered(book, snapshot, scope) & listed.known[snapshot.deal])
        deal = snapshot.deal[rows]
        return CountedDeals(rows, discount.value_minor[deal], listed.value_minor[deal])
    rows, adds = _deals_and_parts(book, snapshot, period, scope, figure)
    return CountedDeals(rows, adds, np.ones(len(rows), dtype=np.int64))


def _deals_and_parts(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, measure: str) -> tuple[Ints, Ints]:
    """Rows of the deals, and what each adds."""
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    filtered = owner_filtered(book, snapshot, scope)
    if REPORTED[measure].family == Family.CREATED:
        day = book.created_on[snapshot.deal]
        rows = np.flatnonzero(filtered & (day >= first) & (day <= last))
        adds = {"created": np.ones(len(rows), dtype=np.int64), "created_value": snapshot.amount_minor[rows]}
        return rows, adds.get(measure, (snapshot.kind[rows] == WON).astype(np.int64))
    if measure == "slips":
        deal, _, moment = slip_moves(book, snapshot)
        day = local_days(moment, book.reference.time_zone)
        number = np.bincount(deal[(day >= first) & (day <= last)], minlength=len(book.deals.key))[snapshot.deal]
        rows = np.flatnonzero(filtered & (number > 0))
        return rows, number[rows]
    if REPORTED[measure].family == Family.WINNING:
        rows, _, days = won_in(book, snapshot, period, scope)
        return rows, days
    rows = np.flatnonzero(filtered & (snapshot.kind == OPEN))
    rows = rows[overstaying(book, snapshot, rows)]
    return rows, np.ones(len(rows), dtype=np.int64)


def _of_deals(task: TallyTask) -> tuple[TallyValue, ...]:
    book, snapshot, figure = task.book, task.snapshot, task.figure
    counted = counted_deals(book, snapshot, task.period, task.scope, figure.key)
    group = grouping(book, task.query.by, snapshot.as_of)
    rows, node = owner_rows(book, snapshot, snapshot.owner[counted.rows], counted.rows, task.query.by)
    node = np.where(node == NONE, group.size, node)
    sums, bases = (sum_by_group(column[rows], node, group.size + 1) for column in (counted.adds, counted.base))
    counts = np.bincount(node, minlength=group.size + 1)
    if group.tree is not None:
        table = group.tree.roll_up(np.stack([sums, counts, bases], axis=1)[: group.size])
        for column_index, column in enumerate((sums, counts, bases)):
            column[: group.size] = table[:, column_index]
    values = []
    for index in shown_nodes(book.reference, task.scope, group, snapshot.as_of, counts > 0):
        number = int(counts[index])
        value: Number = ratio(int(sums[index]), int(bases[index])) if figure.formula else int(sums[index])
        why = figure.none if value is None else ""
        sample = number if figure.formula else None
        values.append(TallyValue(index, *group.key_and_name(index), value, sample, why, number > 0))
    return tuple(values)


def _of_stages(task: TallyTask) -> tuple[TallyValue, ...]:
    stages, measure = task.book.reference.stages, task.query.measure
    if measure in ("stage_open", "stage_deals"):
        name = "amount_minor" if measure == "stage_open" else "deals"
        rows = open_by_stage(task.book, task.snapshot, task.scope)
        return tuple(TallyValue(r.stage, stages[r.stage].key, stages[r.stage].name, getattr(r, name)) for r in rows)
    name = "km_median" if measure == "stage_days" else "overstaying"
    in_stages = time_in_stage(task.book, task.snapshot, task.period, task.scope, "company")[0].stages
    return tuple(
        TallyValue(s.stage, stages[s.stage].key, stages[s.stage].name, getattr(s, name), s.stays) for s in in_stages
    )


def stage_deals(book: Book, snapshot: BookAsOf, scope: Filter, of: tuple[str, int]) -> tuple[Ints, Ints]:
    """Places of the open deals that stand in a stage (`of`: measure and stage), and what each adds: its amount, or one."""
    measure, stage = of
    lines = credited_lines(book, snapshot, scope, "company")
    lines = lines.take((snapshot.kind[lines.rows] == OPEN) & (snapshot.stage[lines.rows] == stage))
    amount = lines.parts(snapshot.amount_minor, book.reference.person_rank)
    rows, index = np.unique(lines.rows, return_inverse=True)
    return rows, sum_by_group(amount, index, len(rows)) if measure == "stage_open" else np.ones(
        len(rows), dtype=np.int64
    )


def _cash(task: TallyTask) -> tuple[TallyValue, ...]:
    book, snapshot = task.book, task.snapshot
    assert task.sides.plans is not None
    payments = payments_in(book, snapshot, task.sides.plans, (task.period,), task.scope)
    won = snapshot.kind[payments.rows] == WON
    keep = {"cash": np.ones(len(won), dtype=bool), "cash_won": won, "cash_open": ~won}[task.query.measure]
    return (TallyValue(0, "", book.reference.organisation, int(payments.value_minor[keep].sum())),)


def _leads(task: TallyTask) -> tuple[TallyValue, ...]:
    book, by, sides = task.book, task.query.by, task.sides
    assert sides.leads is not None
    leads = leads_in(book, task.snapshot, sides.leads, task.period, task.scope)
    if by == "company":
        return (TallyValue(0, "", book.reference.organisation, len(leads.value)),)
    people = {index: (one.key, one.name) for index, one in enumerate(book.reference.people)}
    sources = {index: (name, name) for index, name in enumerate(sides.lead_sources)}
    column, names = (leads.owner, people) if by == "person" else (leads.value, sources)
    values = []
    for index, number in zip(*(part.tolist() for part in np.unique(column, return_counts=True)), strict=True):
        key, name = names.get(index, (None, None))
        values.append(TallyValue(index, key, name, number))
    return tuple(sorted(values, key=lambda row: (row.node == NONE, row.key or "")))


ROWS_OF: dict[Family, Callable[[TallyTask], tuple[TallyValue, ...]]] = {
    Family.FORECAST: _of_forecast,
    Family.OUTLOOK: _of_outlook,
    Family.CREATED: _of_deals,
    Family.CARE: _of_deals,
    Family.LINES: _of_deals,
    Family.WINNING: _of_winning,
    Family.STAGES: _of_stages,
    Family.CASH: _cash,
    Family.ACTIVITIES: _of_activities,
    Family.LEADS: _leads,
}


def change_of(now: Number, then: Number) -> Number:
    """This value less the one before; None where either is none."""
    return None if now is None or then is None else now - then


def buckets(fiscal: FiscalCalendar, period: Period, as_of: date, bucket: str) -> tuple[Period, ...]:
    """The spans side by side: the parts of a period, or the last ones up to a day; see BUCKETS."""
    kind, back = BUCKETS[bucket]
    if back:
        present = fiscal.containing(as_of, kind)
        return tuple(fiscal.shifted(present, step) for step in range(1 - back, 1))
    periods: list[Period] = []
    part = fiscal.containing(period.starts_on, kind)
    while part.starts_on <= period.ends_on and len(periods) < MOST_BUCKETS:
        periods.append(part)
        part = fiscal.shifted(part, 1)
    return tuple(periods)


# Name: the kind of span, and how many of them up to the as-of day; 0 for the parts of the period itself.
BUCKETS = {
    "week": ("week", 0),
    "month": ("month", 0),
    "quarter": ("quarter", 0),
    "last_13_weeks": ("week", 13),
    "last_12_months": ("month", 12),
    "last_8_quarters": ("quarter", 8),
}
MOST_BUCKETS = 60
