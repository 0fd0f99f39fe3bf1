"""People against columns: money and number of deals of each person in each column, such as stages, months or contacts missed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.buckets import deciding_day
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.calls import calls_in_force
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.lines import Filter, credited_lines, number_of_deals
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.reference_data import OPEN
from wise_tally.core.trees import NONE

# Contact intervals missed, the last column holding all beyond.
MOST_MISSED = 4


@dataclass(frozen=True)
class PeopleCell:
    """Number of deals, each once, and their credited amount in minor units."""

    deals: int
    amount_minor: int


@dataclass(frozen=True)
class PeopleRow:
    """A person's cells, and all of them together; `person` -1 is the whole table."""

    person: int
    cells: tuple[PeopleCell, ...]
    whole: PeopleCell


def people_table(
    book: Book, snapshot: BookAsOf, scope: Filter, column: Ints, columns: int
) -> tuple[PeopleRow, tuple[PeopleRow, ...]]:
    """The whole table as one row, and a row for each person who holds something, by identifier.

    `column` gives the column of each deal of the snapshot, -1 for deals outside the table. Money is credited parts, so that
    people add up to the whole; a deal of two people counts once in the whole.
    """
    lines = credited_lines(book, snapshot, scope, "person")
    lines = lines.take(column[lines.rows] != NONE)
    amount = lines.parts(snapshot.amount_minor, book.reference.person_rank)
    people, of = np.unique(lines.person, return_inverse=True)
    index = column[lines.rows]
    cell = of * columns + index
    sums = sum_by_group(amount, cell, len(people) * columns).reshape(len(people), columns)
    counts = _deals(cell, lines.rows, len(people) * columns).reshape(len(people), columns)
    deals = _deals(of, lines.rows, len(people)).tolist()
    rows = [
        _row(person, *of_row)
        for person, *of_row in zip(people.tolist(), counts.tolist(), sums.tolist(), deals, strict=True)
    ]
    rows.sort(key=lambda row: book.reference.people[row.person].key)
    together = _deals(index, lines.rows, columns).tolist()
    whole = _row(NONE, together, sums.sum(axis=0).tolist(), number_of_deals(lines.rows))
    return whole, tuple(rows)


def _deals(cell: Ints, rows: Ints, cells: int) -> Ints:
    """How many deals stand in each cell, each once."""
    places = int(rows.max(initial=0)) + 1
    return np.bincount(np.unique(cell * places + rows) // places, minlength=cells)


def _row(person: int, counts: list[int], sums: list[int], deals: int) -> PeopleRow:
    cells = tuple(PeopleCell(number, amount) for number, amount in zip(counts, sums, strict=True))
    return PeopleRow(person, cells, PeopleCell(deals, sum(sums)))


def people_deals(book: Book, snapshot: BookAsOf, scope: Filter, chosen: Flags, person: int) -> tuple[Ints, Ints]:
    """Places of the chosen deals that a person holds (-1: anybody of the scope), and the credited part of each."""
    lines = credited_lines(book, snapshot, scope, "person")
    lines = lines.take(chosen[lines.rows] & ((lines.person == person) | (person == NONE)))
    amount = lines.parts(snapshot.amount_minor, book.reference.person_rank)
    rows, index = np.unique(lines.rows, return_inverse=True)
    return rows, sum_by_group(amount, index, len(rows))


def missed_columns(missed: Ints, keep: Flags) -> Ints:
    """The column of each deal by the contact intervals missed: none, 1, 2, 3, more; -1 where not kept."""
    return np.where(keep, np.minimum(missed, MOST_MISSED), NONE)


def stage_columns(book: Book, snapshot: BookAsOf, process: int, kind: int) -> tuple[Ints, tuple[int, ...]]:
    """The column of each deal by the stage of a kind that it stands in, -1 for others; and the stages, process by process.

    Retired ones are shown only where a deal stands in them. `process` -1 takes all.
    """
    reference = book.reference
    processes = reference.processes_by_key if process == NONE else (process,)
    occupied = set(np.unique(snapshot.stage[snapshot.kind == kind]).tolist())
    order = [
        stage
        for one in processes
        for stage in sorted(
            (i for i, s in enumerate(reference.stages) if s.process == one and s.kind == kind),
            key=lambda i: (reference.stages[i].position, reference.stages[i].key),
        )
        if not reference.stages[stage].retired or stage in occupied
    ]
    index = np.full(len(reference.stages), NONE)
    index[order] = np.arange(len(order))
    column = np.where(snapshot.kind == kind, index[snapshot.stage], NONE) if len(index) else snapshot.stage
    return column, tuple(order)


def month_columns(snapshot: BookAsOf, months: Sequence[Period], kind: int) -> Ints:
    """The column of each deal of a kind by the month of its closing, -1 outside; of open ones by that of its expected close.

    `months` follow one another. Open deals have a column before the first, one after the last, and a last one without a date.
    """
    day = deciding_day(snapshot)
    starts = np.array([month.starts_on.toordinal() for month in months])
    index = np.searchsorted(starts, day, side="right")
    later = day > months[-1].ends_on.toordinal()
    if kind != OPEN:
        return np.where((snapshot.kind == kind) & (index > 0) & ~later, index - 1, NONE)
    column = np.where(later, len(months) + 1, index)
    return np.where(snapshot.kind == OPEN, np.where(day == NO_DAY, len(months) + 2, column), NONE)


@dataclass(frozen=True)
class WeekRow:
    """What a person set out to close in a week against what is won in it, in minor units.

    Set out is the person's call for the week where there is one (`has_submitted`), else what was expected to close in it as
    the book stood on the evening before it began.
    """

    person: int
    name: str
    set_out_minor: int
    has_submitted: bool
    set_out_deals: int
    won_minor: int
    deals_won: int
    open_minor: int
    deals_open: int


def this_week(book: Book, before: BookAsOf, snapshot: BookAsOf, week: Period, scope: Filter) -> tuple[WeekRow, ...]:
    """A row for each person who set something out, has won, or has something open in the week, by identifier."""
    calls = calls_in_force(book.reference, snapshot.as_of, week)
    then = {row.node: row for row in forecast(book, before, week, scope, "person")}
    rows = []
    for row in forecast(book, snapshot, week, scope, "person"):
        if row.node == NONE:
            continue
        week_row = _week_row(row, then.get(row.node))
        call = calls.get(("person", row.node))
        if call is not None:
            week_row = WeekRow(**{**week_row.__dict__, "set_out_minor": call.amount_minor, "has_submitted": True})
        if week_row.set_out_minor or week_row.set_out_deals or week_row.deals_won or week_row.deals_open:
            rows.append(week_row)
    return tuple(rows)


def _week_row(row: ForecastRow, then: ForecastRow | None) -> WeekRow:
    set_out, deals = (then.open, then.deals_open) if then else (0, 0)
    return WeekRow(row.node, row.name or "", set_out, False, deals, row.won, row.deals_won, row.open, row.deals_open)


def week_together(rows: Sequence[WeekRow]) -> tuple[int, int]:
    """What all set out together and what they have won, in minor units."""
    return sum(row.set_out_minor for row in rows), sum(row.won_minor for row in rows)
