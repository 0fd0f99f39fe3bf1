"""Tallies: one measure over rows of a breakdown, whatever family it comes from; and the deals behind it.

Values are in minor units, hundredths (numbers of the forecast's other measures), counts, days, or ratios of 0 to 1.
"""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date

import numpy as np
import numpy.typing as npt

from wise_tally.core.activity import BY as BY_PEOPLE
from wise_tally.core.activity import METRIC, DoneActivities, activity_attainment
from wise_tally.core.attainment import AttainmentRow, attainment, mean_won, won_share
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.breakdowns import WITHIN, grouping
from wise_tally.core.calendar import FiscalCalendar, Period, local_days
from wise_tally.core.cash import PlanRows, payments_in
from wise_tally.core.dashboard_counts import open_by_stage
from wise_tally.core.deal_list import overstaying, slip_moves
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.leads import LeadRows, leads_in
from wise_tally.core.lines import Filter, credited_lines, owner_filtered, owner_rows, shown_nodes
from wise_tally.core.measures import AMOUNT, CLOSE, valued
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.time_in_stage import DaysToWin, days_to_win, time_in_stage, won_in
from wise_tally.core.trees import NONE

STAGE = "stage"
Number = int | float | None


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


# Of the forecast's rows: the value, and where it rests on few deals the sample.
OF_FORECAST: dict[str, Callable[[AttainmentRow], Number]] = {
    "won": lambda r: r.forecast.won,
    "lost": lambda r: r.forecast.lost,
    "open": lambda r: r.forecast.open,
    "weighted": lambda r: r.forecast.weighted,
    "weighted_open": lambda r: r.forecast.weighted_open,
    "commit_forecast": lambda r: r.forecast.commit_forecast,
    "best_case_forecast": lambda r: r.forecast.best_case_forecast,
    "overdue": lambda r: r.forecast.overdue,
    "undated": lambda r: r.forecast.undated,
    "quota": lambda r: r.forecast.quota,
    "gap": lambda r: r.forecast.gap,
    "attainment": lambda r: r.forecast.attainment,
    "to_date": lambda r: r.to_date,
    "coverage": lambda r: r.forecast.coverage,
    "deals_won": lambda r: r.forecast.deals_won,
    "deals_lost": lambda r: r.forecast.deals_lost,
    "deals_open": lambda r: r.forecast.deals_open,
    "mean_won": lambda r: mean_won(r.forecast),
    "win_rate": lambda r: won_share(r.forecast),
}
NO_QUOTA = "no quota"
REASONS: dict[str, Callable[[AttainmentRow], str]] = {
    **dict.fromkeys(("quota", "gap"), lambda r: NO_QUOTA),
    **dict.fromkeys(("attainment", "to_date"), lambda r: NO_QUOTA if r.forecast.quota is None else "the quota is 0"),
    "coverage": lambda r: NO_QUOTA if r.forecast.gap is None else "quota reached",
    "mean_won": lambda r: "no deals won",
    "win_rate": lambda r: "no deals closed",
}
SAMPLES: dict[str, Callable[[AttainmentRow], int]] = {
    "mean_won": lambda r: r.forecast.deals_won,
    "win_rate": lambda r: r.forecast.deals_won + r.forecast.deals_lost,
}
OF_CREATED = ("created", "created_value", "won_of_created")
OF_LINES = ("average_discount",)
OF_WINNING = ("days_to_win", "mean_days_to_win")
OF_STAGES = ("stage_open", "stage_deals", "stage_days", "stage_overstaying")
OF_OWNERS = ("slips", "overstaying")
OF_CASH = ("cash", "cash_won", "cash_open")
OTHERS = (METRIC, "leads")
MEASURES = (*OF_FORECAST, *OF_CREATED, *OF_WINNING, *OF_STAGES, *OF_OWNERS, *OF_LINES, *OF_CASH, *OTHERS)


def breakdowns_of(measure: str) -> tuple[str, ...] | None:
    """The breakdowns a measure may have; None for every one."""
    if measure in OF_STAGES:
        return (STAGE,)
    if measure in OF_CASH:
        return ("company",)
    if measure == METRIC:
        return BY_PEOPLE
    return ("company", "source", "person") if measure == "leads" else None


def may_hold_within(measure: str) -> bool:
    """Whether rows of a measure may be divided by a second breakdown."""
    return measure in OF_FORECAST


def tally_values(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, asked: TallyQuery, sides: Sides
) -> tuple[TallyValue, ...]:
    """The rows of a tally; raises UnknownBreakdown for a breakdown that the measure has not."""
    allowed = breakdowns_of(asked.measure)
    if (allowed is not None and asked.by not in allowed) or (WITHIN in asked.by and not may_hold_within(asked.measure)):
        raise UnknownBreakdown(f"{asked.measure} has no rows by {asked.by.replace(WITHIN, ' within ')}.")
    if asked.measure in OF_FORECAST:
        return _of_forecast(book, snapshot, period, scope, asked)
    if asked.measure in OF_WINNING:
        name = "median" if asked.measure == "days_to_win" else "mean"
        rows = days_to_win(book, snapshot, period, scope, asked.by)
        return tuple(_winning(row, getattr(row, name)) for row in rows)
    if asked.measure in OF_STAGES:
        return _of_stages(book, snapshot, period, scope, asked.measure)
    if asked.measure in OF_CASH:
        return _cash(book, snapshot, period, scope, (asked.measure, sides))
    if asked.measure == METRIC:
        assert sides.done is not None
        found = activity_attainment(book, snapshot, period, scope, asked.by, sides.done)
        return tuple(TallyValue(r.forecast.node, r.forecast.key, r.forecast.name, r.forecast.won // 100) for r in found)
    if asked.measure == "leads":
        return _leads(book, snapshot, period, scope, (asked.by, sides))
    return _of_deals(book, snapshot, period, scope, asked)


def _of_forecast(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, asked: TallyQuery
) -> tuple[TallyValue, ...]:
    counted = valued(book, snapshot, asked.counting, asked.basis)
    return tuple(_forecast_value(row, asked.measure) for row in attainment(book, counted, period, scope, asked.by))


def _forecast_value(row: AttainmentRow, measure: str) -> TallyValue:
    found, sample, why = row.forecast, SAMPLES.get(measure), REASONS.get(measure)
    value = OF_FORECAST[measure](row)
    return TallyValue(
        found.node,
        found.key,
        found.name,
        value,
        sample(row) if sample else None,
        why(row) if why and value is None else "",
        found.quota is not None or bool(found.deals_won or found.deals_open or found.deals_lost or value),
    )


def _winning(row: DaysToWin, value: float | None) -> TallyValue:
    why = "" if value is not None else "imported without history" if row.deals else "no deals won"
    return TallyValue(row.node, row.key, row.name, value, row.deals, why, row.deals > 0)


# Rates of whole deals, and why there is none.
RATES = {"won_of_created": "no deals created", "average_discount": "no products in won deals"}


@dataclass(frozen=True)
class CountedDeals:
    """Deals that a measure of whole deals counts: rows of the snapshot, what each adds, and to a rate's base (1 a deal else)."""

    rows: Ints
    adds: Ints
    base: Ints

    def take(self, keep: npt.NDArray[np.integer]) -> "CountedDeals":
        """Some of them, by index."""
        return CountedDeals(self.rows[keep], self.adds[keep], self.base[keep])


def counted_deals(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, measure: str) -> CountedDeals:
    """The deals of a measure of whole deals, by owner on the day; average discount: list value and discount of deals won."""
    if measure in OF_LINES:
        first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
        inside = (snapshot.closed_on >= first) & (snapshot.closed_on <= last) & (snapshot.kind == WON)
        listed, discount = book.attributes.list_value(), book.attributes.discount()
        rows = np.flatnonzero(inside & owner_filtered(book, snapshot, scope) & listed.known[snapshot.deal])
        deal = snapshot.deal[rows]
        return CountedDeals(rows, discount.value_minor[deal], listed.value_minor[deal])
    rows, adds = _deals_and_parts(book, snapshot, period, scope, measure)
    return CountedDeals(rows, adds, np.ones(len(rows), dtype=np.int64))


def _deals_and_parts(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, measure: str) -> tuple[Ints, Ints]:
    """Rows of the deals, and what each adds."""
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    kept = owner_filtered(book, snapshot, scope)
    if measure in OF_CREATED:
        day = book.created_on[snapshot.deal]
        rows = np.flatnonzero(kept & (day >= first) & (day <= last))
        adds = {"created": np.ones(len(rows), dtype=np.int64), "created_value": snapshot.amount_minor[rows]}
        return rows, adds.get(measure, (snapshot.kind[rows] == WON).astype(np.int64))
    if measure == "slips":
        deal, _, moment = slip_moves(book, snapshot)
        day = local_days(moment, book.reference.time_zone)
        number = np.bincount(deal[(day >= first) & (day <= last)], minlength=len(book.deals.key))[snapshot.deal]
        rows = np.flatnonzero(kept & (number > 0))
        return rows, number[rows]
    if measure in OF_WINNING:
        rows, _, days = won_in(book, snapshot, period, scope)
        return rows, days
    rows = np.flatnonzero(kept & (snapshot.kind == OPEN))
    rows = rows[overstaying(book, snapshot, rows)]
    return rows, np.ones(len(rows), dtype=np.int64)


def _of_deals(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, asked: TallyQuery
) -> tuple[TallyValue, ...]:
    found = counted_deals(book, snapshot, period, scope, asked.measure)
    group = grouping(book, asked.by, snapshot.as_of)
    rows, node = owner_rows(book, snapshot, snapshot.owner[found.rows], found.rows, asked.by)
    node = np.where(node == NONE, group.size, node)
    sums, bases = (sum_by_group(column[rows], node, group.size + 1) for column in (found.adds, found.base))
    counts = np.bincount(node, minlength=group.size + 1)
    if group.tree is not None:
        table = group.tree.roll_up(np.stack([sums, counts, bases], axis=1)[: group.size])
        for place, column in enumerate((sums, counts, bases)):
            column[: group.size] = table[:, place]
    values = []
    for index in shown_nodes(book.reference, scope, group, snapshot.as_of, counts > 0):
        number = int(counts[index])
        why = RATES.get(asked.measure)
        value: Number = int(sums[index]) if why is None else ratio(int(sums[index]), int(bases[index]))
        sample, why = (None, "") if why is None else (number, why if value is None else "")
        values.append(TallyValue(index, *group.key_and_name(index), value, sample, why, number > 0))
    return tuple(values)


def _of_stages(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, measure: str) -> tuple[TallyValue, ...]:
    stages = book.reference.stages
    if measure in ("stage_open", "stage_deals"):
        name = "amount_minor" if measure == "stage_open" else "deals"
        rows = open_by_stage(book, snapshot, scope)
        return tuple(TallyValue(r.stage, stages[r.stage].key, stages[r.stage].name, getattr(r, name)) for r in rows)
    name = "km_median" if measure == "stage_days" else "overstaying"
    found = time_in_stage(book, snapshot, period, scope, "company")[0].stages
    return tuple(
        TallyValue(s.stage, stages[s.stage].key, stages[s.stage].name, getattr(s, name), s.stays) for s in found
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


def _cash(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, of: tuple[str, Sides]
) -> tuple[TallyValue, ...]:
    measure, sides = of
    assert sides.plans is not None
    found = payments_in(book, snapshot, sides.plans, (period,), scope)
    won = snapshot.kind[found.rows] == WON
    keep = {"cash": np.ones(len(won), dtype=bool), "cash_won": won, "cash_open": ~won}[measure]
    return (TallyValue(0, "", book.reference.organisation, int(found.value_minor[keep].sum())),)


def _leads(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, of: tuple[str, Sides]
) -> tuple[TallyValue, ...]:
    by, sides = of
    assert sides.leads is not None
    leads = leads_in(book, snapshot, sides.leads, period, scope)
    if by == "company":
        return (TallyValue(0, "", book.reference.organisation, len(leads.value)),)
    column = leads.owner if by == "person" else leads.value
    people = book.reference.people
    found = []
    for value, number in zip(*np.unique(column, return_counts=True), strict=True):
        index = int(value)
        key: str | None
        name: str | None
        key, name = None, None
        if index != NONE:
            source = sides.lead_sources
            key, name = (people[index].key, people[index].name) if by == "person" else (source[index], source[index])
        found.append(TallyValue(index, key, name, int(number)))
    return tuple(sorted(found, key=lambda row: (row.node == NONE, row.key or "")))


def change_of(now: Number, then: Number) -> Number:
    """This value less the one before; None where either is none."""
    return None if now is None or then is None else now - then


def buckets(fiscal: FiscalCalendar, period: Period, as_of: date, bucket: str) -> tuple[Period, ...]:
    """The spans side by side: the parts of a period, or the last ones up to a day; see BUCKETS."""
    kind, back = BUCKETS[bucket]
    if back:
        present = fiscal.containing(as_of, kind)
        return tuple(fiscal.shifted(present, step) for step in range(1 - back, 1))
    found: list[Period] = []
    part = fiscal.containing(period.starts_on, kind)
    while part.starts_on <= period.ends_on and len(found) < MOST_BUCKETS:
        found.append(part)
        part = fiscal.shifted(part, 1)
    return tuple(found)


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
