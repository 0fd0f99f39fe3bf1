"""Commissions: what won deals earn the people credited with them and their partners, and what reopened ones take back."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import NO_DAY, FiscalCalendar, Period, local_days
from wise_tally.core.derived import Grown, derived
from wise_tally.core.lines import Filter, Lines, credited_lines, filtered_deals, people_inside
from wise_tally.core.money import WHOLE_BP, Ints, divide_half_even
from wise_tally.core.reference_data import WON
from wise_tally.core.targets import quotas
from wise_tally.core.trees import NONE

PERSON, PARTNER = SUBJECTS = ("person", "partner")
# What a statement over two free dates is measured against where a deal was closed before them.
OF_SPANS = "quarter"
Dated = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Rates:
    """Commission rates by subject (index): rows (day ordinal, basis points), sorted by day; empty for no rate.

    `above` are those for the part of the credited amount above the quota of the period; empty where there is none.
    """

    plain: tuple[Dated, ...]
    above: tuple[Dated, ...]


def rate_on(rows: Dated, day: int) -> int | None:
    """The rate in force on a day: the last not after it, before the first row the first; None without rows."""
    rate = None
    for index, (from_day, rate_bp) in enumerate(rows):
        if index and from_day > day:
            break
        rate = rate_bp
    return rate


@dataclass(frozen=True)
class WonTimes:
    """Every time that deals stood won: the last revision of it, closing and leaving as day ordinals (0 still won)."""

    row: Ints
    closed_on: Ints
    left_on: Ints


@dataclass(frozen=True)
class CommissionLine:
    """What one deal earns a subject, in minor units; negative where it is taken back. None without a rate.

    `on` is the day of the closing, of what is taken back that of the reopening. `above_minor` of the credited amount
    stand above the quota and earn `above_bp`.
    """

    subject: int
    deal: int
    on: int
    amount_minor: int
    rate_bp: int | None
    above_minor: int
    above_bp: int | None
    commission_minor: int | None
    taken_back: bool = False


@dataclass(frozen=True)
class CommissionSum:
    """A subject's lines together, in minor units; `without_rate` counts the lines that have none, `deals` are those of the lines:
    one that was taken back and won again has several.
    """

    subject: int
    credited_minor: int
    commission_minor: int
    taken_back_minor: int
    lines: int
    without_rate: int
    deals: frozenset[int]


def _rows_moved(times: WonTimes, grown: Grown) -> WonTimes:
    return replace(times, row=grown.growth.moved(times.row))


@derived(_rows_moved)
def won_times(book: Book, snapshot: BookAsOf) -> WonTimes:
    """All times won before the snapshot's cut."""
    rev = book.revisions
    known = rev.effective_at < snapshot.cut
    won = known & (book.reference.stage_kind[rev.stage] == WON)
    same_next = np.r_[(rev.deal[1:] == rev.deal[:-1]) & known[1:], False][: len(won)]
    last = np.flatnonzero(won & ~(same_next & np.r_[won[1:], False][: len(won)]))
    left_at = rev.effective_at[np.minimum(last + 1, len(won) - 1)]
    left_on = np.full(len(last), NO_DAY)
    gone = same_next[last]
    left_on[gone] = local_days(left_at[gone], book.reference.time_zone)
    closed_on = local_days(rev.effective_at[book.entered_row(last)], book.reference.time_zone)
    return WonTimes(last, closed_on, left_on)


def commissions(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, rates: Rates, subject: str = PERSON
) -> tuple[CommissionLine, ...]:
    """The lines of a period by subject, then by day and deal, as known on the snapshot's day.

    Credited won amount × the rate in force on the day of closing, the part above the quota of the period at the rate for
    that, rounded half to even per deal. A deal that left won in a later period is taken back in that one as it was
    earned; what was won and left within one period earns nothing. Partners earn on the deal's whole amount, without a
    quota. Quotas count a person's deals in the order of closing, then of identifiers. Source: common practice.
    """
    times = won_times(book, snapshot)
    earned = _earned(book, snapshot, period, rates, subject)
    lines = [line for line in earned if not _left_within(line, period)]
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    back = np.flatnonzero((times.left_on >= first) & (times.left_on <= last))
    closed = {like(book.reference.fiscal, date.fromordinal(int(times.closed_on[row])), period) for row in back}
    for before in closed:
        for line in _earned(book, snapshot, before, rates, subject):
            if first <= line.left_on <= last and not _left_within(line, before):
                lines.append(line.taken_back())
    return tuple(
        sorted(_filtered(book, snapshot, lines, scope, subject), key=lambda line: (line.subject, line.on, line.deal))
    )


def like(fiscal: FiscalCalendar, day: date, period: Period) -> Period:
    """The period of the same kind that a day falls in: the period itself where it does; for two free dates a quarter."""
    if period.starts_on <= day <= period.ends_on:
        return period
    return fiscal.containing(day, OF_SPANS if period.kind == "span" else period.kind)


@dataclass(frozen=True)
class _Earned:
    """A line with where it stands, so that filters can ask, and the day on which the deal left won (0 still won)."""

    line: CommissionLine
    owner_row: int
    left_on: int

    def taken_back(self) -> "_Earned":
        """The same, taken back on the day of leaving."""
        line = self.line
        earned = line.commission_minor
        back = replace(
            line,
            on=self.left_on,
            amount_minor=-line.amount_minor,
            above_minor=-line.above_minor,
            commission_minor=None if earned is None else -earned,
            taken_back=True,
        )
        return replace(self, line=back)


def _left_within(line: _Earned, period: Period) -> bool:
    return line.left_on != NO_DAY and line.left_on <= period.ends_on.toordinal()


def _earned(book: Book, snapshot: BookAsOf, period: Period, rates: Rates, subject: str) -> list[_Earned]:
    """What all deals closed in a period earn, whoever asks; a deal that left won again in it too."""
    times = won_times(book, snapshot)
    inside = (times.closed_on >= period.starts_on.toordinal()) & (times.closed_on <= period.ends_on.toordinal())
    chosen = np.flatnonzero(inside)
    states = book.states(snapshot.as_of, times.row[chosen])
    lines = credited_lines(book, states, Filter(), PERSON if subject == PERSON else "company")
    of = (
        lines.person
        if subject == PERSON
        else book.attributes.facet(PARTNER, states.as_of).of_deal[states.deal[lines.rows]]
    )
    amount = lines.parts(states.amount_minor, book.reference.person_rank)
    order = _in_order(book, states, lines, of)
    quota = quotas(book.reference, snapshot.as_of, period)
    run: dict[int, int] = defaultdict(int)
    earnings = []
    for index in order:
        rows, who = int(lines.rows[index]), int(of[index])
        if who == NONE:
            continue
        left_on, value = int(times.left_on[chosen[rows]]), int(amount[index])
        left_within = left_on != NO_DAY and left_on <= period.ends_on.toordinal()
        target = quota.of(PERSON, who).value if subject == PERSON else None
        above = 0 if target is None or left_within else max(0, min(value, run[who] + value - target))
        run[who] += 0 if left_within else value
        line = _line((who, int(states.deal[rows]), int(states.closed_on[rows])), value, above, rates)
        earnings.append(_Earned(line, int(times.row[chosen[rows]]), left_on))
    return earnings


def _in_order(book: Book, states: BookAsOf, lines: Lines, of: Ints) -> list[int]:
    keys = book.deals.key
    return sorted(
        range(len(lines.rows)),
        key=lambda i: (int(of[i]), int(states.closed_on[lines.rows[i]]), keys[int(states.deal[lines.rows[i]])]),
    )


def _line(index: tuple[int, int, int], amount: int, above: int, rates: Rates) -> CommissionLine:
    subject, deal, on = index
    rate = rate_on(rates.plain[subject], on)
    higher = rate_on(rates.above[subject], on)
    if higher is None:
        above = 0
    earned = None
    if rate is not None:
        earned = divide_half_even((amount - above) * rate + above * (higher or 0), WHOLE_BP)
    return CommissionLine(subject, deal, on, amount, rate, above, higher, earned)


def _filtered(
    book: Book, snapshot: BookAsOf, earned: Sequence[_Earned], scope: Filter, subject: str
) -> list[CommissionLine]:
    """The lines that the scope keeps; a team's are of those who were its members on the day of closing."""
    if scope == Filter() or not earned:
        return [one.line for one in earned]
    states = book.states(snapshot.as_of, np.array([one.owner_row for one in earned], dtype=np.int64))
    keep = filtered_deals(book, states, scope)
    if scope.of_people:
        person = np.array([one.line.subject for one in earned]) if subject == PERSON else states.owner
        team = book.reference.teams_of(person, states.membership_day)
        keep &= people_inside(book.reference, scope, snapshot.as_of, person, team)
    return [one.line for one, inside in zip(earned, keep, strict=True) if inside]


def summed(lines: Sequence[CommissionLine]) -> tuple[CommissionSum, ...]:
    """One sum a subject, in their order."""
    by_subject: dict[int, list[CommissionLine]] = defaultdict(list)
    for line in lines:
        by_subject[line.subject].append(line)
    return tuple(
        CommissionSum(
            subject,
            sum(line.amount_minor for line in own),
            sum(line.commission_minor or 0 for line in own),
            sum(line.commission_minor or 0 for line in own if line.taken_back),
            len(own),
            sum(line.commission_minor is None for line in own),
            frozenset(line.deal for line in own),
        )
        for subject, own in by_subject.items()
    )


def added_by_deal(lines: Sequence[CommissionLine], credited: bool) -> dict[int, int]:
    """What each deal (index) adds to a sum of lines, the most first: credited amounts or commissions, in minor units."""
    adds: dict[int, int] = defaultdict(int)
    for line in lines:
        adds[line.deal] += line.amount_minor if credited else line.commission_minor or 0
    return dict(sorted(adds.items(), key=lambda added: (-added[1], added[0])))


def together(sums: Sequence[CommissionSum]) -> CommissionSum:
    """All sums as one, of no subject (-1)."""
    credited, commission, taken_back, lines, without_rate = (
        sum(getattr(one, name) for one in sums)
        for name in ("credited_minor", "commission_minor", "taken_back_minor", "lines", "without_rate")
    )
    deals = frozenset[int]().union(*(one.deals for one in sums))
    return CommissionSum(NONE, credited, commission, taken_back, lines, without_rate, deals)


@dataclass(frozen=True)
class StatedLine:
    """A line as a statement keeps it; `deal` is its identifier."""

    deal: str
    on: int
    taken_back: bool
    amount_minor: int
    commission_minor: int | None


@dataclass(frozen=True)
class Difference:
    """A line that differs from the last statement: `before` None where it is new, `after` None where it is gone."""

    before: StatedLine | None
    after: StatedLine | None

    @property
    def commission_minor(self) -> int:
        """What the change adds to the commission, in minor units."""
        new = (self.after.commission_minor or 0) if self.after else 0
        return new - ((self.before.commission_minor or 0) if self.before else 0)


def since_statement(stated: Sequence[StatedLine], present: Sequence[StatedLine]) -> tuple[Difference, ...]:
    """What differs from a statement, by deal: lines gone, new ones, and those of another amount or commission."""
    before, after = ({(one.deal, one.on, one.taken_back): one for one in lines} for lines in (stated, present))
    return tuple(
        Difference(before.get(key), after.get(key))
        for key in sorted({*before, *after})
        if before.get(key) != after.get(key)
    )
