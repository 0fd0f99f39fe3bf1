"""Leads and before: lead → qualified → deal → won, with the days between."""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.lines import Filter, people_inside
from wise_tally.core.money import Ints, ratio
from wise_tally.core.reference_data import LOST, WON
from wise_tally.core.statistics import DAY_SECONDS, Interval, wilson
from wise_tally.core.trees import NONE

NEW, WORKING, QUALIFIED, DROPPED = STATUSES = ("new", "working", "qualified", "dropped")


@dataclass(frozen=True)
class LeadRows:
    """Leads as columns, shape (leads,): the value they are grouped by and their owner (-1 none), when they came and were
    closed (seconds, 0 while open), their status (place among STATUSES) and the deal they became (index into the book, -1).

    `entered`, shape (leads, steps), says when a lead first took each step of the leads' pipeline (seconds, 0 never).
    """

    value: Ints
    owner: Ints
    created_at: Ints
    closed_at: Ints
    status: Ints
    deal: Ints
    entered: Ints

    def take(self, keep: np.ndarray) -> "LeadRows":
        """The leads kept."""
        return LeadRows(*(getattr(self, name)[keep] for name in self.__dataclass_fields__))


def leads_in(book: Book, snapshot: BookAsOf, leads: LeadRows, period: Period, scope: Filter) -> LeadRows:
    """Leads that came in the period (local days) by the end of the snapshot's day, of the people of the scope.

    One that was closed only later was still being worked on then; a step taken only later was not taken.
    """
    reference = book.reference
    day = local_days(leads.created_at, reference.time_zone)
    keep = (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())
    keep &= leads.created_at < snapshot.cut
    if scope.of_people:
        today = np.full(len(leads.owner), snapshot.as_of.toordinal())
        owned = leads.owner >= 0
        team = np.full(len(leads.owner), NONE, dtype=np.int64)
        team[owned] = reference.teams_of(leads.owner[owned], today[owned])
        keep &= owned & people_inside(reference, scope, snapshot.as_of, leads.owner, team)
    inside = leads.take(keep)
    later = inside.closed_at >= snapshot.cut
    working = STATUSES.index(WORKING)
    return replace(
        inside,
        closed_at=np.where(later, 0, inside.closed_at),
        status=np.where(later, working, inside.status),
        entered=np.where(inside.entered < snapshot.cut, inside.entered, 0),
    )


@dataclass(frozen=True)
class LeadFigures:
    """The outcome of the leads of one value; days are means, None where nothing is behind them."""

    value: int
    leads: int
    open: int
    dropped: int
    qualified: int
    deals: int
    won: int
    lost: int
    won_minor: int
    days_to_qualify: float | None
    days_to_win: float | None

    @property
    def qualified_rate(self) -> float | None:
        """qualified ÷ leads."""
        return ratio(self.qualified, self.leads)

    @property
    def won_rate(self) -> float | None:
        """won ÷ leads."""
        return ratio(self.won, self.leads)

    @property
    def interval(self) -> Interval | None:
        """Wilson interval of won ÷ leads."""
        return wilson(self.won, self.leads)


def _deals_of_leads(snapshot: BookAsOf, rows: LeadRows) -> tuple[Ints, Flags]:
    """Places of the leads' deals among the snapshot's, and whether each has one that is there."""
    index = np.minimum(np.searchsorted(snapshot.deal, np.maximum(rows.deal, 0)), max(len(snapshot.deal) - 1, 0))
    in_book = (rows.deal >= 0) & (len(snapshot.deal) > 0)
    in_book[in_book] = snapshot.deal[index[in_book]] == rows.deal[in_book]
    return index, in_book


def _decided(rows: LeadRows, in_book: Flags) -> tuple[Flags, Flags]:
    """Which leads are qualified (one with a deal whatever its status) and which dropped."""
    qualified = in_book | (rows.status == STATUSES.index(QUALIFIED))
    return qualified, ~qualified & (rows.status == STATUSES.index(DROPPED))


def lead_figures(snapshot: BookAsOf, leads: LeadRows, value: int | None = None) -> LeadFigures:
    """The outcome of the leads of one value, of all with None; a lead counts once in each step that it reached.

    A lead with a deal in the book is qualified, whatever its status.
    """
    rows = leads if value is None else leads.take(leads.value == value)
    index, in_book = _deals_of_leads(snapshot, rows)
    kind = np.where(in_book, snapshot.kind[index] if len(snapshot.deal) else -1, -1)
    qualified, dropped = _decided(rows, in_book)
    won = kind == WON
    timed = qualified & (rows.closed_at > 0)
    took = (rows.closed_at[timed] - rows.created_at[timed]) / DAY_SECONDS
    to_win = (snapshot.closed_at[index[won]] - rows.created_at[won]) / DAY_SECONDS
    return LeadFigures(
        value=-1 if value is None else value,
        leads=len(rows.value),
        open=int((~qualified & ~dropped).sum()),
        dropped=int(dropped.sum()),
        qualified=int(qualified.sum()),
        deals=int(in_book.sum()),
        won=int(won.sum()),
        lost=int((kind == LOST).sum()),
        won_minor=int(snapshot.amount_minor[index[won]].sum()),
        days_to_qualify=float(took.mean()) if len(took) else None,
        days_to_win=float(to_win.mean()) if len(to_win) else None,
    )


@dataclass(frozen=True)
class StepFigures:
    """The outcome of the leads that reached a step; `days` is the median of those who left it, None where nobody did."""

    step: int
    reached: int
    moved_on: int
    dropped: int
    open: int
    days: float | None

    @property
    def rate(self) -> float | None:
        """moved on ÷ (moved on + dropped): those still there are not decided yet."""
        return ratio(self.moved_on, self.moved_on + self.dropped)

    @property
    def interval(self) -> Interval | None:
        """Wilson interval of the rate."""
        return wilson(self.moved_on, self.moved_on + self.dropped)


def step_figures(snapshot: BookAsOf, leads: LeadRows) -> tuple[StepFigures, ...]:
    """The leads' pipeline step by step, of leads that took any step by the end of the snapshot's day.

    A lead reached every step up to the furthest that it ever took, a qualified one all; going back takes no step away.
    """
    steps = leads.entered.shape[1]
    took = leads.entered > 0
    furthest = np.where(took, np.arange(steps), -1).max(axis=1, initial=-1)
    qualified, dropped = _decided(leads, _deals_of_leads(snapshot, leads)[1])
    known = furthest >= 0
    figures = []
    for step in range(steps):
        reached = known & ((furthest >= step) | qualified)
        moved = reached & ((furthest > step) | qualified)
        lost = reached & ~moved & dropped
        left = _left(leads, step)
        days = float(np.median(left)) if len(left) else None
        numbers = [int(flags.sum()) for flags in (reached, moved, lost, reached & ~moved & ~lost)]
        figures.append(StepFigures(step, numbers[0], numbers[1], numbers[2], numbers[3], days))
    return tuple(figures)


def _left(leads: LeadRows, step: int) -> np.ndarray:
    """Days that leads stood in a step, of those that took it and a later one, or were closed there."""
    entered = leads.entered[:, step]
    later = np.where(
        leads.entered[:, step + 1 :] > entered[:, None], leads.entered[:, step + 1 :], np.iinfo(np.int64).max
    )
    until = later.min(axis=1, initial=np.iinfo(np.int64).max)
    until = np.minimum(until, np.where(leads.closed_at > 0, leads.closed_at, np.iinfo(np.int64).max))
    ended = (entered > 0) & (until < np.iinfo(np.int64).max)
    return np.maximum(until[ended] - entered[ended], 0) / DAY_SECONDS
