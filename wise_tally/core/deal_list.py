"""Figures of a list of deals: days in the present stage, overstaying, totals of whole deals."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.derived import Grown, Grows, derived
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS


@dataclass(frozen=True)
class ListTotals:
    """Number of deals and their whole amounts and weighted values, in minor units; credit is not divided."""

    deals: int
    amount_minor: int
    weighted_minor: int


def list_totals(snapshot: BookAsOf, rows: Ints) -> ListTotals:
    """Totals of the deals at these rows of the snapshot. Raises AmountOverflow beyond 64 bits."""
    one = np.zeros(len(rows), dtype=np.int64)
    amount, weighted = (sum_by_group(c[rows], one, 1)[0] for c in (snapshot.amount_minor, snapshot.weighted_minor))
    return ListTotals(len(rows), int(amount), int(weighted))


def lane_totals(snapshot: BookAsOf, rows: Ints, lane: Ints, lanes: int) -> tuple[ListTotals, ...]:
    """Totals of each lane; `lane` holds the lane of each deal in `rows`. Raises AmountOverflow beyond 64 bits."""
    counts = np.bincount(lane, minlength=lanes)
    amount, weighted = (sum_by_group(c[rows], lane, lanes) for c in (snapshot.amount_minor, snapshot.weighted_minor))
    return tuple(ListTotals(int(n), int(a), int(w)) for n, a, w in zip(counts, amount, weighted, strict=True))


def together(totals: Iterable[ListTotals]) -> ListTotals:
    """Totals of parts that share no deal."""
    parts = list(totals)
    return ListTotals(
        *(sum(getattr(part, name) for part in parts) for name in ("deals", "amount_minor", "weighted_minor"))
    )


def totals_by_close(snapshot: BookAsOf, rows: Ints, most: int) -> tuple[tuple[date, ListTotals], ...]:
    """The open dated deals at these rows by month of expected close: the first day of each month with its totals.

    Every month from the first with a deal to the last, at most so many; later deals are left out.
    """
    rows = rows[(snapshot.kind[rows] == OPEN) & (snapshot.expected_close[rows] != NO_DAY)]
    if not len(rows):
        return ()
    close = snapshot.expected_close[rows]
    starts = [date.fromordinal(int(close.min())).replace(day=1)]
    while starts[-1].toordinal() <= int(close.max()) and len(starts) <= most:
        starts.append((starts[-1] + timedelta(days=32)).replace(day=1))
    month = np.searchsorted([start.toordinal() for start in starts], close, side="right") - 1
    months = len(starts) - 1
    inside = month < months
    return tuple(zip(starts, lane_totals(snapshot, rows[inside], month[inside], months), strict=False))


def open_by_group(
    snapshot: BookAsOf, deals: Sequence[int], group: Sequence[int], groups: int
) -> tuple[ListTotals, ...]:
    """Totals of the open deals of each group; `deals` are indices into the book, those not in the snapshot are passed over."""
    wanted, of_group = np.array(deals, dtype=np.int64), np.array(group, dtype=np.int64)
    rows = np.minimum(np.searchsorted(snapshot.deal, wanted), max(len(snapshot.deal) - 1, 0))
    if len(snapshot.deal) == 0 or len(wanted) == 0:
        return tuple(ListTotals(0, 0, 0) for _ in range(groups))
    keep = (snapshot.deal[rows] == wanted) & (snapshot.kind[rows] == OPEN)
    return lane_totals(snapshot, rows[keep], of_group[keep], groups)


@dataclass(frozen=True)
class Slips:
    """How often each deal's expected close moved later, and by how many days together; shape (deals of the book,)."""

    count: Ints
    days: Ints


@derived(Grows.CARRIED)
def slips(book: Book, snapshot: BookAsOf) -> Slips:
    """Slips before the snapshot's cut: a revision that moves the expected close later, between two dates, both while open.

    Source: common practice.
    """
    deal, later, _ = slip_moves(book, snapshot)
    deals = len(book.deals.key)
    return Slips(np.bincount(deal, minlength=deals), sum_by_group(later, deal, deals))


def slip_moves(book: Book, snapshot: BookAsOf) -> tuple[Ints, Ints, Ints]:
    """Every slip before the snapshot's cut: the deal, by how many days, and the moment; shape (slips,)."""
    rev = book.revisions
    rows = np.flatnonzero(slipped(book) & (rev.effective_at < snapshot.cut))
    return rev.deal[rows], rev.expected_close[rows] - rev.expected_close[rows - 1], rev.effective_at[rows]


def _mended_slipped(known: Flags, grown: Grown) -> Flags | None:
    # Rows come and go after those of their deal that stay, so what is known of these holds.
    is_same = grown.new.reference is grown.old.reference
    return grown.growth.spliced(known, slipped_with(grown.new, grown.growth.rows)) if is_same else None


@derived(_mended_slipped)
def slipped(book: Book) -> Flags:
    """Which revisions are slips, shape (revisions,)."""
    return slipped_with(book, np.arange(len(book.revisions.deal)))


def slipped_with(book: Book, rows: Ints) -> Flags:
    """Which of these revisions are slips: the expected close later than in the revision before, both dated, both open."""
    rev, before = book.revisions, np.maximum(rows - 1, 0)
    close, former = rev.expected_close[rows], rev.expected_close[before]
    were_open = (book.reference.stage_kind[rev.stage[one]] == OPEN for one in (rows, before))
    same = (rev.deal[rows] == rev.deal[before]) & np.logical_and(*were_open)
    return same & (former != NO_DAY) & (close > former)


@dataclass(frozen=True)
class Slip:
    """One slip: the moment, and the expected close before and after it as day ordinals."""

    at: int
    before: int
    after: int


def slips_of(book: Book, snapshot: BookAsOf, deal: int) -> tuple[Slip, ...]:
    """The slips of one deal that `slips` counts, in their order."""
    rev = book.revisions
    rows = np.flatnonzero((rev.deal == deal) & (rev.effective_at < snapshot.cut))
    is_open = book.reference.stage_kind[rev.stage[rows]] == OPEN
    slips = []
    for index in range(1, len(rows)):
        before, after = int(rev.expected_close[rows[index - 1]]), int(rev.expected_close[rows[index]])
        if is_open[index] and is_open[index - 1] and NO_DAY not in (before, after) and after > before:
            slips.append(Slip(int(rev.effective_at[rows[index]]), before, after))
    return tuple(slips)


@dataclass(frozen=True)
class OwnStay:
    """A stay of one deal in an open stage, up to the as-of midnight: moments in seconds; days over the typical ones, or None."""

    stage: int
    entered_at: int
    left_at: int
    owner: int
    days: float
    over: float | None


def stays_of(book: Book, snapshot: BookAsOf, deal: int) -> tuple[OwnStay, ...]:
    """The stays of one deal (index into the book) begun by the snapshot's day, in their order; days of 24 hours."""
    stays, rules = book.open_stays, book.reference.rules_on(snapshot.as_of)
    first, last = (int(np.searchsorted(stays.deal, deal, side=side)) for side in ("left", "right"))
    own_stays = []
    for row in range(first, last):
        stage, entered = int(stays.stage[row]), int(stays.entered_at[row])
        if entered >= snapshot.cut:
            break
        left = min(int(stays.left_at[row]), snapshot.cut)
        days, typical = (left - entered) / DAY_SECONDS, rules[stage].typical_days
        over = days - typical if typical is not None and days > typical else None
        own_stays.append(OwnStay(stage, entered, left, int(stays.owner[row]), days, over))
    return tuple(own_stays)


def days_in_stage(book: Book, snapshot: BookAsOf, rows: Ints) -> np.ndarray:
    """Days from each deal's entry into its present stage to the as-of midnight, shape of `rows`."""
    entered = book.revisions.effective_at[book.entered_row(snapshot.row[rows])]
    return (snapshot.cut - entered) / DAY_SECONDS


def overstaying(book: Book, snapshot: BookAsOf, rows: Ints) -> Flags:
    """Which deals have been in their open stage longer than its typical days; never where it has none."""
    return ~np.isnan(days_over(book, snapshot, rows))


def days_over(book: Book, snapshot: BookAsOf, rows: Ints) -> np.ndarray:
    """Days beyond the typical days of the open stage a deal stands in, shape of `rows`; NaN where it does not overstay."""
    rules = book.reference.rules_on(snapshot.as_of)
    typical = np.array([np.inf if rule.typical_days is None else rule.typical_days for rule in rules])
    over = days_in_stage(book, snapshot, rows) - typical[snapshot.stage[rows]]
    return np.where((snapshot.kind[rows] == OPEN) & (over > 0), over, np.nan)


UNTOUCHED_DAYS = 30
SLIPPED_OFTEN = 2


def due_between(snapshot: BookAsOf, rows: Ints, first: int, last: int) -> Flags:
    """Which open deals are expected to close from day `first` to day `last` (ordinals), both included."""
    close = snapshot.expected_close[rows]
    return (snapshot.kind[rows] == OPEN) & (close >= first) & (close <= last)


def overdue(snapshot: BookAsOf, rows: Ints) -> Flags:
    """Which open deals have an expected close before the as-of day."""
    return due_between(snapshot, rows, NO_DAY + 1, snapshot.as_of.toordinal() - 1)


def undated(snapshot: BookAsOf, rows: Ints) -> Flags:
    """Which open deals have no expected close."""
    return (snapshot.kind[rows] == OPEN) & (snapshot.expected_close[rows] == NO_DAY)


def slipped_often(book: Book, snapshot: BookAsOf, rows: Ints) -> Flags:
    """Which deals have slipped at least twice. Source: common practice."""
    return slips(book, snapshot).count[snapshot.deal[rows]] >= SLIPPED_OFTEN


def untouched(book: Book, snapshot: BookAsOf, rows: Ints) -> Flags:
    """Which open deals have not changed for more than 30 days before the as-of midnight. Source: common practice."""
    changed = book.revisions.effective_at[snapshot.row[rows]]
    return (snapshot.kind[rows] == OPEN) & (changed < snapshot.cut - UNTOUCHED_DAYS * DAY_SECONDS)
