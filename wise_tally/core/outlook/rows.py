"""The outlook of a period by the rows of a breakdown: won, open deals by chance, still to come; ranges by each row's own distribution.

Each part is a value of whole deals, divided among credited people and groups like every amount, so that parts add up to the whole.
Deals still to come stand with the deals created in the last year, each an equal part of those of its process.
"""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import Pairs, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import CACHED_ROWS, ForecastLines, forecast_lines, sums_by_node
from wise_tally.core.lines import Filter
from wise_tally.core.measures import AMOUNT
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.outlook.distribution import MayBeWon
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW, Chances, Fit, chances, fit
from wise_tally.core.outlook.reference_class import LEAST
from wise_tally.core.outlook.still_to_come import YEAR_DAYS, StillToCome, created_moments, still_to_come
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class OfDeals:
    """The outlook of each deal of a snapshot, shape (deals,): chance, the amount it would be won for and that by its chance, and the deals
    to come that stand with it, in whole minor units. `chances` are of the open deals, `until` the fit; `to_come` all deals to come.
    """

    chance: Floats
    amount_minor: Ints
    expected_minor: Ints
    to_come_minor: Ints
    chances: Chances
    until: Fit
    to_come: StillToCome


@dataclass(frozen=True)
class OutlookRow:
    """The outlook of one node in minor units: `mean` is won + open_by_chance + still_to_come."""

    node: int
    won: int
    open_by_chance: int
    still_to_come: int

    @property
    def mean(self) -> int:
        """What is won in the end on average."""
        return self.won + self.open_by_chance + self.still_to_come


def has_outlook(snapshot: BookAsOf) -> bool:
    """Whether there is an outlook of what the snapshot counts: of amounts by the day of closing alone."""
    return snapshot.measure == AMOUNT and snapshot.due_on is None


def days_ahead(snapshot: BookAsOf, period: Period) -> tuple[int, int]:
    """Whole days from the snapshot's evening to the evening before the period, and to its last; not under 0."""
    today = snapshot.as_of.toordinal()
    return max(period.starts_on.toordinal() - 1 - today, 0), max(period.ends_on.toordinal() - today, 0)


@derived(Grows.CARRIED)
def of_deals(book: Book, snapshot: BookAsOf, period: Period) -> OfDeals:
    """The outlook of each deal. Of a period that begins later it is what is won by its end less what is won before it."""
    before, until = days_ahead(snapshot, period)
    learnt = fit(book, snapshot.as_of, until)
    given, to_come = chances(book, snapshot, learnt), learnt.to_come
    if before:
        sooner = chances(book, snapshot, fit(book, snapshot.as_of, before))
        by_age = np.maximum(given.by_age - sooner.by_age, 0.0)
        given = replace(given, chance=np.maximum(given.chance - sooner.chance, 0.0), by_age=by_age)
        to_come = still_to_come(book, snapshot.cut, until, before)
    size = len(snapshot.deal)
    chance, amount = np.zeros(size), np.zeros(size)
    chance[given.places], amount[given.places] = given.chance, given.amount_minor
    stand_for = _to_come_of_deals(book, snapshot, to_come)
    return OfDeals(chance, _whole(amount), _whole(amount * chance), stand_for, given, learnt, to_come)


def shown_chances(book: Book, snapshot: BookAsOf, period: Period) -> Floats:
    """The chance of each deal of the snapshot to be won in the period; NaN where there is none.

    There is none for closed deals, for processes with fewer than 20 closed deals and for stages with fewer than 10 past stays.
    """
    whole = of_deals(book, snapshot, period)
    enough = whole.until.decided[book.deals.process[snapshot.deal]] >= ENOUGH_TO_SHOW
    known = (snapshot.kind == OPEN) & enough & (whole.until.like[snapshot.stage] >= LEAST)
    return np.where(known & (whole.until.horizon > 0), whole.chance, np.nan)


def _whole(values: Floats) -> Ints:
    return np.rint(values).astype(np.int64)


def _arrived(book: Book, snapshot: BookAsOf) -> Flags:
    """Which deals of the snapshot came in the last year."""
    return created_moments(book)[snapshot.deal] >= snapshot.cut - YEAR_DAYS * DAY_SECONDS


def _to_come_of_deals(book: Book, snapshot: BookAsOf, to_come: StillToCome) -> Ints:
    """Money to come of each process, divided equally among the deals that came in the last year; to the unit."""
    shares, process = np.zeros(len(snapshot.deal), dtype=np.int64), book.deals.process[snapshot.deal]
    money = np.bincount(to_come.process, to_come.expected * to_come.amount_minor, len(book.reference.processes))
    arrived = _arrived(book, snapshot)
    for one, minor in enumerate(np.rint(money).astype(np.int64).tolist()):
        own = np.flatnonzero((process == one) & arrived)
        if not len(own):
            own = np.flatnonzero(process == one)
        if len(own):
            each, more = divmod(minor, len(own))
            shares[own] = each
            shares[own[:more]] += 1
    return shares


@derived(Grows.CARRIED, most=CACHED_ROWS)
def outlook_rows(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str) -> dict[int, OutlookRow]:
    """The outlook of every node of `by`, without ranges; empty where what is counted has none."""
    if not has_outlook(snapshot):
        return {}
    lines = forecast_lines(book, snapshot, period, scope, by)
    whole = of_deals(book, snapshot, period)
    rank, group = book.reference.person_rank, grouping(book, by, snapshot.as_of)
    columns = (
        lines.value_minor("won"),
        lines.lines.parts(whole.expected_minor, rank),
        lines.lines.parts(whole.to_come_minor, rank),
    )
    if isinstance(group, Pairs):
        # Most pairs hold nothing: only the others get a place.
        nodes, index = np.unique(lines.node, return_inverse=True)
        sums = [sum_by_group(column, index, len(nodes)) for column in columns]
    else:
        nodes = np.r_[np.arange(group.size), NONE]
        sums = [sums_by_node(column, lines, group).sum(axis=1) for column in columns]
    rows = zip(nodes.tolist(), *(one.tolist() for one in sums), strict=True)
    return {node: OutlookRow(node, *numbers) for node, *numbers in rows}


@dataclass(frozen=True)
class Stakes:
    """What some lines may still bring, the rows of the snapshot whose deals are open, and the lines' share of each process's arrivals."""

    may_be_won: MayBeWon
    rows: Ints
    share: Floats


def stakes_of(book: Book, lines: ForecastLines, whole: OfDeals, inside: Flags | None = None) -> Stakes:
    """What the lines given (of those `inside`) may still bring.

    A deal divided among several people of a node is one outcome with all its parts there.
    """
    counted = np.ones(len(lines.node), dtype=bool) if inside is None else inside
    rank, snapshot = book.reference.person_rank, lines.lines.snapshot
    amount, to_come = (lines.lines.parts(values, rank) for values in (whole.amount_minor, whole.to_come_minor))
    still_open = counted & (whole.chance[lines.lines.rows] > 0)
    rows, index = np.unique(lines.lines.rows[still_open], return_inverse=True)
    process, processes = book.deals.process[snapshot.deal], len(book.reference.processes)
    own = sum_by_group(to_come[counted], process[lines.lines.rows[counted]], processes)
    of_all = sum_by_group(whole.to_come_minor, process, processes)
    share = np.divide(own, of_all, out=np.zeros(processes), where=of_all != 0)
    may_be_won = MayBeWon(
        int(lines.value_minor("won")[counted].sum()),
        sum_by_group(amount[still_open], index, len(rows)).astype(float),
        whole.chance[rows],
        whole.to_come.shared(share),
        whole.until.shock,
    )
    return Stakes(may_be_won, rows, share)
