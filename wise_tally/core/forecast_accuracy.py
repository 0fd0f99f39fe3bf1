"""A rep's record: commit against outcome, deals that slipped, calls against outcome, period by period."""

from dataclasses import dataclass, replace
from datetime import date, timedelta

import numpy as np

from wise_tally.core.backtest import unchanged_before
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.breakdowns import grouping
from wise_tally.core.calendar import Period
from wise_tally.core.calls import calls_in_force
from wise_tally.core.derived import Grown, Grows, derived
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter, shown_nodes
from wise_tally.core.money import Ints, ratio, sum_by_group
from wise_tally.core.reference_data import OPEN, WON
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class RepRecord:
    """One person and period; money in credited minor units. `submitted` is None where the person had submitted nothing."""

    person: int
    period: Period
    commit: int
    won_of_commit: int
    due: int
    slipped: int
    submitted: int | None
    won: int

    @property
    def commit_won(self) -> float | None:
        """won of what was commit ÷ commit."""
        return ratio(self.won_of_commit, self.commit)

    @property
    def slip_rate(self) -> float | None:
        """Slipped deals ÷ due deals."""
        return ratio(self.slipped, self.due)

    @property
    def call_error(self) -> int | None:
        """called − won."""
        return None if self.submitted is None else self.submitted - self.won


@dataclass(frozen=True)
class RecordsTogether:
    """Several records, the periods of one person or the people of one period, and what they come to; minor units."""

    periods: tuple[RepRecord, ...]

    @property
    def commit(self) -> int:
        """Commit at mid-period, all periods."""
        return sum(record.commit for record in self.periods)

    @property
    def commit_won(self) -> float | None:
        """won of what was commit ÷ commit, all periods."""
        return ratio(sum(record.won_of_commit for record in self.periods), self.commit)

    @property
    def slip_rate(self) -> float | None:
        """Slipped deals ÷ due deals, all periods."""
        return ratio(sum(record.slipped for record in self.periods), sum(record.due for record in self.periods))

    @property
    def with_call(self) -> list[RepRecord]:
        """The records in which a call was made."""
        return [record for record in self.periods if record.submitted is not None]

    @property
    def submitted(self) -> int | None:
        """What was submitted in all; None where nobody submitted."""
        return sum(record.submitted or 0 for record in self.with_call) if self.with_call else None

    @property
    def won_where_submitted(self) -> int:
        """What was won in the records in which a call was made."""
        return sum(record.won for record in self.with_call)

    @property
    def call_error(self) -> float | None:
        """(submitted − won) ÷ won where a call was made; above 0 too much was submitted."""
        return (
            None
            if self.submitted is None
            else ratio(self.submitted - self.won_where_submitted, self.won_where_submitted)
        )


def middle_of(period: Period) -> date:
    """The day whose end halves the period."""
    return period.starts_on + timedelta(days=period.days // 2 - 1)


def rep_records(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> dict[int, RepRecord]:
    """Records of the people of a scope by person; those of one person are part of everybody's, which are kept."""
    records = _records(book, snapshot, period, replace(scope, person=NONE))
    return records if scope.person == NONE else {one: records[one] for one in (scope.person,) if one in records}


@dataclass(frozen=True)
class _AtMiddle:
    """Parts of people in deals that were open at mid-period, shape (parts,): deal (index), person, amount in minor units, whether it
    was commit, due, and moved later since.
    """

    deal: Ints
    person: Ints
    amount_minor: Ints
    in_commit: np.ndarray
    due: np.ndarray
    moved: np.ndarray


def _untouched(known: _AtMiddle, grown: Grown, _: Period, last: date, scope: Filter) -> _AtMiddle | None:
    return known if unchanged_before(grown, last, scope) else None


@derived(_untouched, most=24)
def _at_middle(book: Book, period: Period, last: date, scope: Filter) -> _AtMiddle:
    """The deals at mid-period, and which of them had moved by the day `last`."""
    middle = middle_of(period)
    # What was closed by then was neither commit nor due; unless reopened it is still closed, and its people hold it at the end, too.
    rows = book.rows_on(middle)
    then = book.states(middle, rows[book.reference.stage_kind[book.revisions.stage[rows]] == OPEN])
    lines = forecast_lines(book, then, period, scope, "person")
    surest = f"category:{book.reference.surest_first[0]}" if book.reference.surest_first else "open"
    return _AtMiddle(
        deal=then.deal[lines.lines.rows],
        person=lines.node,
        amount_minor=lines.amount_minor,
        in_commit=lines.counts(surest),
        due=lines.counts("open"),
        moved=_moved_later(book, last, then, lines.lines.rows),
    )


@derived(Grows.CARRIED, most=24)
def _records(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> dict[int, RepRecord]:
    """Of each person of the scope who had deals due, won, or a call: commit at mid-period and what was won of those deals in the period,
    deals due at mid-period and those of them whose expected close moved later before the period ended, the person's own
    call in force at mid-period against what was won. Source: common practice; own definition.
    """
    people, then = len(book.reference.people), _at_middle(book, period, min(period.ends_on, snapshot.as_of), scope)
    index = np.searchsorted(snapshot.deal, then.deal)
    closed_on = snapshot.closed_on[index]
    won_in_period = (snapshot.kind[index] == WON) & (closed_on >= period.starts_on.toordinal())
    won_in_period &= closed_on <= period.ends_on.toordinal()
    one = np.ones(len(index), dtype=np.int64)

    def by_person(values: Ints, keep: np.ndarray) -> Ints:
        return sum_by_group(values[keep], then.person[keep], people)

    columns = (
        by_person(then.amount_minor, then.in_commit),
        by_person(then.amount_minor, then.in_commit & won_in_period),
        by_person(one, then.due),
        by_person(one, then.due & then.moved),
    )
    ended = forecast_lines(book, snapshot, period, scope, "person")
    won = sum_by_group(ended.value_minor("won"), ended.node, people)
    calls = calls_in_force(book.reference, middle_of(period), period)
    holding = np.zeros(people + 1, dtype=bool)
    holding[np.concatenate([then.person, ended.node])] = True
    records = {}
    # Of others only the call would be known: nothing they committed or won is in the scope.
    for person in shown_nodes(book.reference, scope, grouping(book, "person", snapshot.as_of), snapshot.as_of, holding):
        if person == NONE:
            continue
        call = calls.get(("person", person))
        submitted = call.amount_minor if call is not None and call.made_by == person else None
        commit, of_commit, due_deals, slipped = (int(column[person]) for column in columns)
        if commit or due_deals or won[person] or submitted is not None:
            records[person] = RepRecord(
                person, period, commit, of_commit, due_deals, slipped, submitted, int(won[person])
            )
    return records


def _moved_later(book: Book, ends_on: date, then: BookAsOf, rows: Ints) -> np.ndarray:
    """Which deals are still open at the end of a day with a later expected close than they had."""
    rev, ended = book.revisions, book.rows_on(ends_on)
    row = ended[np.searchsorted(rev.deal[ended], then.deal[rows])]
    still_open = book.reference.stage_kind[rev.stage[row]] == OPEN
    return np.asarray(still_open & (rev.expected_close[row] > then.expected_close[rows]))
