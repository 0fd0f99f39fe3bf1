"""What is due today: each open deal of the scope once, with every reason why it wants a look, the most pressing first."""

from dataclasses import dataclass
from datetime import date, timedelta
from itertools import islice

import numpy as np
from django.db.models import Q

from wise_tally.book.store import books
from wise_tally.core.book import Flags
from wise_tally.core.deal_list import days_over, due_between, overdue, slipped_often, slips, undated
from wise_tally.core.derived import derived
from wise_tally.core.lines import deals_in
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.models import Activity, Deal
from wise_tally.domain.deals.selectors import next_steps_between, planned_about_deals
from wise_tally.domain.formats import age, as_words, count, day, money, plural
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import local_day
from wise_tally.web import deal_columns
from wise_tally.web.deal_rows import DealRow, deal_rows, deals_at
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed

# Reasons in the order of how pressing they are: what was promised for a day first. The first four are marked.
STEP, ACTIVITY, CLOSING, PAST, OVER, SLIPPED, UNDATED, GAP = range(8)
MARKED = 4
# Days looked ahead, and entries shown.
DAYS_AHEAD, MOST_COMING = 7, 10


@dataclass(frozen=True)
class DueDeal:
    """A deal with the reasons it is due (in words, and whether marked), and its planned activities that are due."""

    row: DealRow
    deal: Deal
    reasons: list[tuple[str, bool]]
    activities: list[Activity]
    has_gap: bool


@dataclass(frozen=True)
class Flagged:
    """The open deals of a scope: rows of the snapshot, and which reason holds for which, shape (reasons, deals)."""

    rows: Ints
    flags: Flags
    over: np.ndarray
    slips: Ints
    contact_days: np.ndarray
    missed: Ints


@derived()
def flagged(line: FilterLine) -> Flagged:
    """Which open deals of the scope are due, and why."""
    snapshot = line.snapshot
    rows = deals_in(line.book, snapshot, line.scope)
    rows = rows[snapshot.kind[rows] == OPEN]
    deal, today = snapshot.deal[rows], line.as_of.toordinal()
    week_ends = today + 6 - line.as_of.weekday()
    over, moved = days_over(line.book, snapshot, rows), slips(line.book, snapshot).count[deal]
    contact = deal_columns.contact_days(line, rows)
    missed = deal_columns.gaps(line, rows, contact)
    reasons: dict[int, Flags] = {
        STEP: deal_columns.deals_where(line, Q(next_step_on__lte=line.as_of))[deal],
        ACTIVITY: deal_columns.deals_where(line, Q(pk__in=planned_about_deals(line.ends_at).values("deal")))[deal],
        CLOSING: due_between(snapshot, rows, today, week_ends),
        PAST: overdue(snapshot, rows),
        OVER: ~np.isnan(over),
        SLIPPED: slipped_often(line.book, snapshot, rows),
        UNDATED: undated(snapshot, rows),
        GAP: missed > 0,
    }
    flags = np.stack([reasons[number] for number in sorted(reasons)])
    return Flagged(rows, flags, over, moved, contact, missed)


@derived()
def in_order(line: FilterLine) -> Ints:
    """The due deals as indices into the flagged rows, the most pressing and then the largest first."""
    flagged_deals = flagged(line)
    due = np.flatnonzero(flagged_deals.flags.any(axis=0))
    pressing = flagged_deals.flags[:, due].argmax(axis=0)
    return due[np.lexsort((-line.snapshot.amount_minor[flagged_deals.rows[due]], pressing))]


REASON_WORDS = (
    "next step due",
    "planned activity due",
    "closes this week",
    "expected close is past",
    "stalled in stage",
    "close date moved later at least twice",
    "no close date",
    "contact overdue",
)


def due_panel(line: FilterLine) -> Panel:
    """How many deals are due, by reason; a deal may have several."""
    flagged_deals = flagged(line)
    order = flagged_deals.rows[in_order(line)]
    amount = line.snapshot.amount_minor[order]
    counts = flagged_deals.flags.sum(axis=1).tolist()
    return Panel(
        title="Deals needing attention",
        definition="Open deals in this selection with at least one of these reasons. Each deal counts once.",
        terms=tuple(PanelTerm(words, count(int(n))) for words, n in zip(REASON_WORDS, counts, strict=True) if n),
        total=count(len(order)),
        total_words="deals",
        **listed(line, order, [money(int(value)) for value in amount[:FIRST_DEALS]], amount),
        not_counted=(("open, nothing due", len(flagged_deals.rows) - len(order)),)
        if len(flagged_deals.rows) > len(order)
        else (),
    )


def due_deals(line: FilterLine, flagged_deals: Flagged, shown: Ints, viewer: Viewer) -> list[DueDeal]:
    """Rows, reasons in words and due activities of the deals to be shown."""
    indices = flagged_deals.rows[shown].tolist()
    rows = deal_rows(line, indices, viewer)
    deals = deals_at(line, rows)
    planned: dict[int, list[Activity]] = {}
    for activity in planned_about_deals(line.ends_at).filter(deal__in=deals.values()).order_by("at"):
        planned.setdefault(activity.deal_id or 0, []).append(activity)
    result = []
    for i, index in zip(shown.tolist(), indices, strict=True):
        if index in rows:
            row, deal = rows[index], deals[rows[index].key]
            acts = planned.get(deal.pk, [])
            present = np.flatnonzero(flagged_deals.flags[:, i]).tolist()
            words = [
                (text, reason < MARKED)
                for reason in present
                for text in _words(line, flagged_deals, reason, (i, row, deal, acts))
            ]
            result.append(DueDeal(row, deal, words, acts, GAP in present))
    return result


def _words(
    line: FilterLine, flagged_deals: Flagged, reason: int, of: tuple[int, DealRow, Deal, list[Activity]]
) -> list[str]:
    """A reason in words."""
    i, row, deal, planned = of
    if reason == STEP and deal.next_step_on:
        when = "overdue since" if deal.next_step_on < line.as_of else "due today,"
        return [f"next step {when} {day(deal.next_step_on)}: {deal.next_step or 'no description'}"]
    if reason == ACTIVITY:
        return [f"{as_words(a.kind)} planned for {day(a.at)}: {a.subject}" for a in planned]
    if reason == GAP:
        spent = float(flagged_deals.contact_days[i])
        return [f"no contact for {age(spent)}, {plural(int(flagged_deals.missed[i]), 'missed contact')}"]
    return [
        {
            STEP: "next step due",
            CLOSING: f"closes this week, {day(row.expected_close)}",
            PAST: f"expected close is past, {day(row.expected_close)}",
            OVER: f"stalled: {age(float(flagged_deals.over[i]))} over the typical time in its stage",
            SLIPPED: f"close date moved later {plural(int(flagged_deals.slips[i]), 'time')}",
            UNDATED: "no close date",
        }[reason]
    ]


@dataclass(frozen=True)
class Coming:
    """What is planned about a deal for one of the next days."""

    on: date
    words: str
    key: str
    name: str


@derived()
def coming(line: FilterLine) -> list[Coming]:
    """Next steps and activities of the coming days about the open deals of the scope, the first ones."""
    in_scope = np.zeros(len(line.book.deals.key), dtype=bool)
    in_scope[line.snapshot.deal[flagged(line).rows]] = True
    index_of, last = books.stored().index_of, line.as_of + timedelta(days=DAYS_AHEAD)

    def in_hand(number: int) -> bool:
        index = index_of(number)
        return index is not None and bool(in_scope[index])

    steps = (
        Coming(on or last, f"{words or 'next step'}:", key, name)
        for number, key, name, on, words in next_steps_between(line.as_of, last)
        if in_hand(number)
    )
    acts = planned_about_deals(line.ends_at + timedelta(days=DAYS_AHEAD)).filter(at__gte=line.ends_at).order_by("at")
    fields = ("at", "kind", "subject", "deal_id", "deal__key", "deal__name")
    planned = (
        Coming(local_day(moment), f"{as_words(kind)}, {subject}:", key, name)
        for moment, kind, subject, number, key, name in acts.values_list(*fields).iterator(chunk_size=100)
        if in_hand(number)
    )
    first = [*islice(steps, MOST_COMING), *islice(planned, MOST_COMING)]
    return sorted(first, key=lambda one: one.on)[:MOST_COMING]
