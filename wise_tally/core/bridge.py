"""Bridge between two days: each deal's state changes attribute by attribute, each change booked under its cause."""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.lines import Filter, Lines, credited_lines
from wise_tally.core.measures import DEALS
from wise_tally.core.money import Ints, sum_by_group, weighted_minor
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE

MEASURES = ("weighted", "won", "commit_forecast", "best_case_forecast", "open")
# In the order in which they are booked, each with its words.
CAUSE_WORDS = {
    "created": "new deals",
    "scope_in": "moved into this team or territory",
    "scope_out": "moved out of this team or territory",
    "period_in": "close date moved into the period",
    "period_out": "close date moved out of the period",
    "amount": "amount changed",
    "won": "won",
    "lost": "lost",
    "reopened": "reopened",
    "category": "category changed",
    "probability": "probability changed",
}
CAUSES = tuple(CAUSE_WORDS)


@dataclass(frozen=True)
class BridgeRow:
    """A cause with the money it moved, in minor units, and the deals whose part changed; `start` and `end` too."""

    cause: str
    amount_minor: int
    deals: int


@dataclass(frozen=True)
class _State:
    """States of deals of the book, one each; kind -1 where a deal does not exist."""

    kind: Ints
    expected_close: Ints
    closed_on: Ints
    amount_minor: Ints
    category: Ints
    probability_bp: Ints

    def take_from(self, other: "_State", where: Flags, *names: str) -> "_State":
        """This state with some attributes of another where a condition holds."""
        changed = {name: np.where(where, getattr(other, name), getattr(self, name)) for name in names}
        return replace(self, **changed)


@dataclass(frozen=True)
class Moves:
    """Each deal's part of the measure on both days, shape (deals,), and what each cause moved, shape (causes, deals)."""

    start: Ints
    end: Ints
    moved: Ints


def bridge(
    book: Book, before: BookAsOf, after: BookAsOf, period: Period, scope: Filter, measure: str = "weighted"
) -> tuple[BridgeRow, ...]:
    """start, every cause in order, end; the causes sum exactly to end − start. Source: common practice."""
    return bridge_rows(bridge_moves(book, before, after, period, scope, measure))


def bridge_rows(moves: Moves) -> tuple[BridgeRow, ...]:
    """The rows of a bridge that is there deal by deal."""
    rows = [BridgeRow(c, int(m.sum()), int(np.count_nonzero(m))) for c, m in zip(CAUSES, moves.moved, strict=True)]
    first = BridgeRow("start", int(moves.start.sum()), int(np.count_nonzero(moves.start)))
    return (first, *rows, BridgeRow("end", int(moves.end.sum()), int(np.count_nonzero(moves.end))))


def bridge_moves(book: Book, before: BookAsOf, after: BookAsOf, period: Period, scope: Filter, measure: str) -> Moves:
    """The bridge deal by deal."""
    size = len(book.deals.key)
    # Nothing moved of a deal that was closed in another period on both days.
    concerned = np.zeros(size, dtype=bool)
    for snapshot in (before, after):
        concerned[snapshot.deal[_may_count(snapshot, period)]] = True
    deals = np.flatnonzero(concerned)
    before, after = before.of_deals(concerned), after.of_deals(concerned)
    lines_before, lines_after = (credited_lines(book, s, scope, "company") for s in (before, after))
    values = _Values(book, period, measure, deals)
    a, b = (_spread(snapshot, deals) for snapshot in (before, after))
    start = values.parts(lines_before, a)
    moved = np.zeros((len(CAUSES), len(deals)), dtype=np.int64)
    # A deal that was not there has no earlier attributes: all that it brings is its creation.
    created = (a.kind == NONE) & (b.kind != NONE)
    moved[CAUSES.index("created")] = np.where(created, values.parts(lines_after, b), 0)
    now = np.where(created, 0, start)
    state, there = a, a.kind != NONE
    steps: tuple[tuple[tuple[str, ...], str | None], ...] = (
        ((), None),
        (("expected_close",), None),
        (("amount_minor",), "amount"),
        (("kind", "closed_on"), "outcome"),
        (("category",), "category"),
        (("probability_bp",), "probability"),
    )
    reopened = there & (a.kind != OPEN) & (b.kind == OPEN)
    for number, (attributes, cause) in enumerate(steps):
        state = state.take_from(b, there, *attributes)
        if cause == "outcome":
            state = state.take_from(b, reopened, "category", "probability_bp")
        value = np.where(there, values.parts(lines_after, state), 0)
        for index, change in _booked(number, cause, value - now, (a, b)):
            moved[index] += change
        now = value

    def of_all(values: Ints) -> Ints:
        spread = np.zeros((*values.shape[:-1], size), dtype=np.int64)
        spread[..., deals] = values
        return spread

    return Moves(of_all(start), of_all(values.parts(lines_after, b)), of_all(moved))


WHERE = ("won", "lost", "other_period", "not_there")


@dataclass(frozen=True)
class ShiftTable:
    """Money by where deals stood on one day (rows) and on another (columns); arrays of shape (places, places).

    Places are the categories in the order of the reference data, then won and lost in the period, in another period (undated
    ones too), and not there (not yet created, or not in the scope). `before` and `after` are credited amounts on the
    two days, `change` what the measure moved, all in minor units. `column_before` and `column_after` give each deal's
    place, shape (deals,).
    """

    before: Ints
    after: Ints
    change: Ints
    deals: Ints
    column_before: Ints
    column_after: Ints


def shift_of(
    book: Book, snapshots: tuple[BookAsOf, BookAsOf], period: Period, scope: Filter, moves: Moves
) -> ShiftTable:
    """Where the money went between two days: the changes of all cells sum exactly to the bridge's end − start."""
    size = len(book.reference.categories) + len(WHERE)
    sides = [_places(book, snapshot, period, scope) for snapshot in snapshots]
    (column_before, amount_before), (column_after, amount_after) = sides
    cell = column_before * size + column_after
    tables = [
        sum_by_group(values, cell, size * size).reshape(size, size)
        for values in (amount_before, amount_after, moves.end - moves.start)
    ]
    absent = size - 1
    there = (column_before != absent) | (column_after != absent)
    deals = np.bincount(cell[there], minlength=size * size).reshape(size, size)
    amounts_before, amounts_after, change = tables
    return ShiftTable(amounts_before, amounts_after, change, deals, column_before, column_after)


def _places(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> tuple[Ints, Ints]:
    """Each deal's place on a day and its credited amount in the scope, shape (deals,)."""
    categories, size = len(book.reference.categories), len(book.deals.key)
    won, lost, other, absent = range(categories, categories + len(WHERE))
    state = _spread(snapshot, np.arange(size))
    day = np.where(state.kind == OPEN, state.expected_close, state.closed_on)
    inside = (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())
    index = np.select([~inside, state.kind == WON, state.kind == LOST], [other, won, lost], state.category)
    lines = credited_lines(book, snapshot, scope, "company")
    credited = np.zeros(size, dtype=bool)
    credited[snapshot.deal[lines.rows]] = True
    amount = np.zeros(size, dtype=np.int64)
    if snapshot.measure == DEALS:
        amount[snapshot.deal[lines.rows]] = snapshot.amount_minor[lines.rows]
    else:
        parts = lines.parts(snapshot.amount_minor, book.reference.person_rank)
        np.add.at(amount, snapshot.deal[lines.rows], parts)
    return np.where(credited, index, absent), amount


def _booked(index: int, cause: str | None, change: Ints, states: tuple[_State, _State]) -> list[tuple[int, Ints]]:
    """The cause or causes that a step's changes are booked under."""
    if cause is None:
        name = ("scope", "period")[index]
        return [
            (CAUSES.index(f"{name}_in"), np.where(change > 0, change, 0)),
            (CAUSES.index(f"{name}_out"), np.where(change < 0, change, 0)),
        ]
    if cause == "outcome":
        kind = states[1].kind
        names = (("won", WON), ("lost", LOST), ("reopened", OPEN))
        return [(CAUSES.index(name), np.where(kind == of, change, 0)) for name, of in names]
    return [(CAUSES.index(cause), change)]


def _may_count(snapshot: BookAsOf, period: Period) -> Flags:
    """Whether something of a deal can count in the period, whatever its dates are: open, or closed in it."""
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    return np.asarray((snapshot.kind == OPEN) | ((snapshot.closed_on >= first) & (snapshot.closed_on <= last)))


def _spread(snapshot: BookAsOf, deals: Ints) -> _State:
    """A snapshot's columns on some deals, which are all that it has."""
    index = np.searchsorted(deals, snapshot.deal)

    def column(values: Ints, missing: int) -> Ints:
        spread = np.full(len(deals), missing, dtype=np.int64)
        spread[index] = values
        return spread

    return _State(
        kind=column(snapshot.kind, NONE),
        expected_close=column(snapshot.expected_close, NO_DAY),
        closed_on=column(snapshot.closed_on, NO_DAY),
        amount_minor=column(snapshot.amount_minor, 0),
        category=column(snapshot.category, NONE),
        probability_bp=column(snapshot.probability_bp, 0),
    )


@dataclass(frozen=True)
class _Values:
    """The measure of any mixed state of some deals."""

    book: Book
    period: Period
    measure: str
    deals: Ints

    def parts(self, lines: Lines, state: _State) -> Ints:
        """Each deal's part of the measure under the lines of one side, shape of `deals`."""
        index, value = np.searchsorted(self.deals, lines.snapshot.deal), self._whole(state)
        if lines.snapshot.measure == DEALS:
            # A deal counts once, however it is divided.
            inside = np.zeros(len(value), dtype=bool)
            inside[index[lines.rows]] = True
            return np.where(inside, value, 0)
        parts = lines.parts(value[index], self.book.reference.person_rank)
        return sum_by_group(parts, index[lines.rows], len(value))

    def _whole(self, state: _State) -> Ints:
        first, last = self.period.starts_on.toordinal(), self.period.ends_on.toordinal()
        day = np.where(state.kind == OPEN, state.expected_close, state.closed_on)
        inside = (day >= first) & (day <= last)
        surest = self.book.reference.surest_first
        counted = {"commit_forecast": surest[:1], "best_case_forecast": surest[:2], "won": ()}.get(self.measure, surest)
        value = (
            weighted_minor(state.amount_minor, state.probability_bp)
            if self.measure == "weighted"
            else state.amount_minor
        )
        open_value = np.where((state.kind == OPEN) & np.isin(state.category, counted), value, 0)
        won_value = np.where(state.kind == WON, state.amount_minor, 0) if self.measure != "open" else 0
        return np.where(inside, open_value + won_value, 0)
