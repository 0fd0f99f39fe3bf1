"""Leads and before: lead → qualified → deal → won, with the days between."""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period, local_days
from wise_tally.core.lines import Filter, people_kept
from wise_tally.core.money import Ints, ratio
from wise_tally.core.reference_data import LOST, WON
from wise_tally.core.statistics import DAY_SECONDS, Interval, wilson
from wise_tally.core.trees import NONE

NEW, WORKING, QUALIFIED, DROPPED = STATUSES = ("new", "working", "qualified", "dropped")


@dataclass(frozen=True)
class LeadRows:
    """Leads as columns, shape (leads,): the value they are told apart by and their owner (-1 none), when they came and were
    closed (seconds, 0 while open), their status (place among STATUSES) and the deal they became (index into the book, -1)."""

    value: Ints
    owner: Ints
    created_at: Ints
    closed_at: Ints
    status: Ints
    deal: Ints

    def take(self, keep: np.ndarray) -> "LeadRows":
        """The leads kept."""
        return LeadRows(*(getattr(self, name)[keep] for name in self.__dataclass_fields__))


def leads_in(book: Book, snapshot: BookAsOf, leads: LeadRows, period: Period, scope: Filter) -> LeadRows:
    """Leads that came in the period (local days) by the end of the snapshot's day, of the people of the scope.

    One that was closed only later was still being worked on then; a lead has no other history.
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
        keep &= owned & people_kept(reference, scope, snapshot.as_of, leads.owner, team)
    kept = leads.take(keep)
    later = kept.closed_at >= snapshot.cut
    working = STATUSES.index(WORKING)
    return replace(kept, closed_at=np.where(later, 0, kept.closed_at), status=np.where(later, working, kept.status))


@dataclass(frozen=True)
class LeadFigures:
    """What became of the leads of one value; days are means, None where nothing is behind them."""

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


def lead_figures(snapshot: BookAsOf, leads: LeadRows, value: int | None = None) -> LeadFigures:
    """What became of the leads of one value, of all with None; a lead counts once in each step that it reached.

    A lead with a deal that stands in the book is qualified, whatever its status says.
    """
    rows = leads if value is None else leads.take(leads.value == value)
    index = np.minimum(np.searchsorted(snapshot.deal, np.maximum(rows.deal, 0)), max(len(snapshot.deal) - 1, 0))
    stands = (rows.deal >= 0) & (len(snapshot.deal) > 0)
    stands[stands] = snapshot.deal[index[stands]] == rows.deal[stands]
    kind = np.where(stands, snapshot.kind[index] if len(snapshot.deal) else -1, -1)
    qualified = stands | (rows.status == STATUSES.index(QUALIFIED))
    dropped = ~qualified & (rows.status == STATUSES.index(DROPPED))
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
        deals=int(stands.sum()),
        won=int(won.sum()),
        lost=int((kind == LOST).sum()),
        won_minor=int(snapshot.amount_minor[index[won]].sum()),
        days_to_qualify=float(took.mean()) if len(took) else None,
        days_to_win=float(to_win.mean()) if len(to_win) else None,
    )
