"""The forecast of a period day by day, in one sweep over the revisions instead of one roll-up a day."""

from dataclasses import dataclass
from datetime import date
from itertools import pairwise

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.buckets import WON_IN_PERIOD, Buckets, buckets_in
from wise_tally.core.calendar import EPOCH, Period, local_days
from wise_tally.core.derived import derived
from wise_tally.core.lines import Filter, credited_lines
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.core.stays import FOR_EVER


@dataclass(frozen=True)
class Trend:
    """Figures at the end of each day, in minor units: arrays of shape (days,), `categories` of (categories, days).

    `days` holds day ordinals; `categories` stand in the order of the reference data.
    """

    days: Ints
    won: Ints
    categories: Ints
    weighted: Ints

    def since(self, first: date) -> "Trend":
        """The days from `first` on."""
        later = self.days >= first.toordinal()
        return Trend(self.days[later], self.won[later], self.categories[:, later], self.weighted[later])

    def weighted_moved(self, days: int) -> int:
        """How far weighted moved in the last so many days, in minor units; there are more than that."""
        return int(self.weighted[-1] - self.weighted[-1 - days])


@derived(most=24)
def trend(book: Book, period: Period, first: date, last: date, scope: Filter) -> Trend:
    """Won, open by category and weighted of the period, as the book stood at the end of each day from `first` to `last`.

    Each day's figures equal those of a forecast as of that day. Rules, trees, memberships and credit are those of the
    day: the span is cut where any of them changes, and within a piece every revision counts from the end of the day
    on which it came to the end of the day on which the next one did. Source: common practice.
    """
    begin, end = first.toordinal(), last.toordinal() + 1
    buckets = Buckets(len(book.reference.categories), book.reference.surest_first)
    sums = np.zeros((2, buckets.size, end - begin), dtype=np.int64)
    rows = _rows_of_period(book, period)
    from_day, until = _days_of(book, rows)
    pieces = [begin, *sorted(day for day in _changes(book) if begin < day < end), end]
    for start, stop in pairwise(pieces):
        alive = (np.maximum(from_day, start) < np.minimum(until, stop)) & (from_day < stop)
        spans = np.maximum(from_day[alive], start) - start, np.minimum(until[alive], stop) - start
        snapshot = book.states(date.fromordinal(start), rows[alive])
        sums[:, :, start - begin : stop - begin] = _piece(book, snapshot, (period, scope), buckets, spans, stop - start)
    by_category = np.zeros((buckets.categories, end - begin), dtype=np.int64)
    for category in range(buckets.categories):
        by_category[category] = sums[0, list(buckets.of(f"category:{category}"))].sum(axis=0)
    weighted = sums[0, WON_IN_PERIOD] + sums[1, list(buckets.of("open"))].sum(axis=0)
    return Trend(np.arange(begin, end), sums[0, WON_IN_PERIOD], by_category, weighted)


def _rows_of_period(book: Book, period: Period) -> Ints:
    """Revisions that can count in the period: open and due in it, or closed in it."""
    rev = book.revisions
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    is_open = (book.reference.stage_kind == OPEN)[rev.stage]
    due = is_open & (rev.expected_close >= first) & (rev.expected_close <= last)
    closed = np.flatnonzero(~is_open)
    entered = rev.effective_at[book.entered_row(closed)]
    # The local day is that of UTC or the one beside it.
    near = np.flatnonzero((entered // DAY_SECONDS >= first - EPOCH - 1) & (entered // DAY_SECONDS <= last - EPOCH + 1))
    day = local_days(entered[near], book.reference.time_zone)
    due[closed[near[(day >= first) & (day <= last)]]] = True
    return np.flatnonzero(due)


def _days_of(book: Book, rows: Ints) -> tuple[Ints, Ints]:
    """The first day at whose end each revision is in effect, and the first at whose end it is no more."""
    zone = book.reference.time_zone
    ends = book.effective_to[rows]
    until = np.full(len(rows), np.iinfo(np.int64).max)
    ended = ends != FOR_EVER
    until[ended] = local_days(ends[ended], zone)
    return local_days(book.revisions.effective_at[rows], zone), until


def _changes(book: Book) -> set[int]:
    """Days on which a rule, a tree, a membership or a credit begins to hold."""
    reference = book.reference
    days = {day for node in (*reference.teams, *reference.territories) for day, _ in node.parents}
    days |= {day for person in reference.people for day, _ in person.memberships}
    days |= set(np.unique(book.credits.from_day).tolist())
    moments = np.array([rule.effective_at for stage in reference.stages for rule in stage.rules], dtype=np.int64)
    known = moments[(moments > 0) & (moments < FOR_EVER)]
    return days | set(local_days(known, reference.time_zone).tolist())


def _piece(
    book: Book, snapshot: BookAsOf, of: tuple[Period, Filter], buckets: Buckets, spans: tuple[Ints, Ints], days: int
) -> Ints:
    """Sums of amount and weighted of each bucket and day of a piece, shape (2, buckets, days)."""
    period, scope = of
    lines = credited_lines(book, snapshot, scope, "company")
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    bucket = buckets_in(snapshot, first, last)[lines.rows]
    begins, stops = spans[0][lines.rows], spans[1][lines.rows]
    width = days + 1
    cells = np.r_[bucket * width + begins, bucket * width + stops]
    sums = []
    for values in (snapshot.amount_minor, snapshot.weighted_minor):
        parts = lines.parts(values, book.reference.person_rank)
        steps = sum_by_group(np.r_[parts, -parts], cells, buckets.size * width).reshape(buckets.size, width)
        sums.append(np.cumsum(steps, axis=1)[:, :days])
    return np.stack(sums)
