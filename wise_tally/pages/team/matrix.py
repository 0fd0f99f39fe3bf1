"""People against columns: the table, the deals behind each part of it, and how a part came about."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import HttpResponse
from django.urls import reverse

from wise_tally.core.money import Ints
from wise_tally.core.number_reader import whole_number
from wise_tally.core.people_table import PeopleCell, PeopleRow, people_deals, people_table
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import money, plural
from wise_tally.domain.org.access import May
from wise_tally.domain.process.models import Category
from wise_tally.web.deal_rows import deal_rows, stage_choices
from wise_tally.web.files.tables import Sheet, exports
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.footer import Footer
from wise_tally.web.ink import share
from wise_tally.web.leavers import name_of_person
from wise_tally.web.page_query import PageQuery
from wise_tally.web.paging import paged
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

MOST_DEALS = 60


@dataclass(frozen=True)
class PeopleQuery(PageQuery):
    """A table of people: the column of each deal of the snapshot (-1 outside) and the columns in words, as a page sets them."""

    @property
    def column(self) -> Ints:
        """The column of each deal."""
        return self.columns[0]

    @property
    def heads(self) -> tuple[str, ...]:
        """The columns in words."""
        return self.columns[1]

    @cached_property
    def columns(self) -> tuple[Ints, tuple[str, ...]]:
        """Both."""
        raise NotImplementedError


@dataclass(frozen=True)
class OpenedTable:
    """The table with the row (empty for the whole, None for none) and the part of it that the address opens."""

    query: PeopleQuery
    person: str | None = None
    part: int | None = None

    @property
    def line(self) -> FilterLine:
        """The scope."""
        return self.query.line

    @property
    def heads(self) -> tuple[str, ...]:
        """The columns in words."""
        return self.query.heads

    @property
    def column(self) -> Ints:
        """The column of each deal."""
        return self.query.column

    @cached_property
    def table(self) -> tuple[PeopleRow, tuple[PeopleRow, ...]]:
        """The whole as a row, and the people's rows."""
        line = self.line
        return people_table(line.book, line.snapshot, line.scope, self.column, len(self.heads))

    @property
    def is_opened(self) -> bool:
        """Whether a row or a part of one is opened."""
        return self.person is not None

    def _person(self) -> int:
        if not self.person:
            return NONE
        keys = [person.key for person in self.line.book.reference.people]
        if self.person not in keys:
            raise Refused(f"Person “{self.person[:60]}” not found. Go back and choose one from the page.", 404)
        return keys.index(self.person)

    @property
    def opened_words(self) -> str:
        """What is opened, as people read it."""
        person = self._person()
        name = "everyone" if person == NONE else self.line.book.reference.people[person].name
        return name if self.part is None else f"{name}, {self.heads[self.part]}"

    def opened(self) -> tuple[Ints, Ints]:
        """Places of the opened deals and the part of each, the largest first."""
        chosen = self.column != NONE if self.part is None else self.column == self.part
        line = self.line
        rows, amount = people_deals(line.book, line.snapshot, line.scope, chosen, self._person())
        order = np.argsort(-amount, kind="stable")
        return rows[order], amount[order]


def read_opened(request: PageRequest, query: PeopleQuery) -> OpenedTable:
    """The table with the row and part that the address opens; raises Refused."""
    person, text = request.GET.get("rep"), request.GET.get("part", "")
    part = whole_number(text, len(query.heads) - 1)
    if text and part is None:
        raise Refused(f"“{text[:20]}” is not a column. Enter a whole number from 0 to {len(query.heads) - 1}.")
    return OpenedTable(query, person, part)


@dataclass(frozen=True)
class DrawnCell:
    """A cell with its bar, the address that opens its deals, and the query of its working."""

    cell: PeopleCell
    width: str
    open: str
    working: str
    is_open: bool


@dataclass(frozen=True)
class DrawnRow:
    """A person's row to draw; the last cell is the whole."""

    key: str
    name: str
    cells: list[DrawnCell]


def drawn(opened: OpenedTable, shown: Sequence[PeopleRow] | None = None) -> tuple[DrawnRow, list[DrawnRow]]:
    """The whole and the people's rows (those shown, else all, the most money first), one scale for all cells of people and one for the
    whole.
    """
    whole, rows = opened.table
    people = opened.line.book.reference.people
    largest = max([1, *(cell.amount_minor for row in rows for cell in row.cells)])
    drawn_rows = []
    for row in in_order(opened) if shown is None else shown:
        person = people[row.person]
        name = name_of_person(opened.line, person.key, person.name)
        drawn_rows.append(_drawn(opened, row, person.key, name, largest))
    top = max([1, *(cell.amount_minor for cell in whole.cells)])
    return _drawn(opened, whole, "", "everyone", top), drawn_rows


def in_order(opened: OpenedTable) -> list[PeopleRow]:
    """The people's rows, the most money first."""
    return sorted(opened.table[1], key=lambda row: -row.whole.amount_minor)


def _drawn(opened: OpenedTable, row: PeopleRow, key: str, name: str, largest: int) -> DrawnRow:
    cells, of_row = [], f"{opened.query.query()}&{urlencode({'rep': key})}"
    for index, cell in enumerate((*row.cells, row.whole)):
        part = str(index) if index < len(row.cells) else ""
        is_open = opened.person == key and (str(opened.part) if opened.part is not None else "") == part
        address = f"{of_row}&part={part}" if part else of_row
        width = share(min(cell.amount_minor, largest), largest) if part else "0%"
        cells.append(DrawnCell(cell, width, address, address, is_open))
    return DrawnRow(key, name, cells)


def opened_rows(request: PageRequest, opened: OpenedTable) -> dict[str, Any]:
    """What a page shows of the deals behind the opened part, edited where they stand."""
    if not opened.is_opened:
        return {"opened": None}
    line, viewer = opened.line, request.viewer
    rows_behind, amount = opened.opened()
    rows = deal_rows(line, rows_behind[:MOST_DEALS].tolist(), viewer)
    shown = [
        (rows[index], part) for index, part in zip(rows_behind.tolist(), amount.tolist(), strict=True) if index in rows
    ]
    return {
        "opened": shown,
        "opened_words": opened.opened_words,
        "opened_deals": len(rows_behind),
        "opened_minor": int(amount.sum()),
        "more": max(0, len(rows_behind) - MOST_DEALS),
        "may_edit": not line.is_past and viewer.may(May.CHANGE_OWN_DEALS),
        "stages": stage_choices(),
        "categories": list(Category.objects.order_by("rank")),
    }


def page_context(request: PageRequest, opened: OpenedTable, files: str) -> dict[str, Any]:
    """What a page of such a table shows, the deals behind its opened part included; `files` names its table files."""
    shown, turned = paged(request, in_order(opened), opened.query.query())
    whole, rows = drawn(opened, shown)
    return {
        "heads": opened.heads,
        "whole": whole,
        "rows": rows,
        **turned,
        "this_page": request.get_full_path(),
        "footer": Footer(whole.cells[-1].cell.deals, exports=exports(files, opened.query.query())),
        **opened_rows(request, opened),
    }


def part_working(request: PageRequest, opened: OpenedTable, definition: str, page: str) -> HttpResponse:
    """How a cell came about; `page` names the page it belongs to."""
    back = f"{reverse(page)}?{opened.query.query()}"
    return panel_response(request, opened.line, part_panel(opened, definition), back)


def part_panel(opened: OpenedTable, definition: str) -> Panel:
    """How a cell came about: its deals, each with the part that the person is credited with."""
    rows, amount = opened.opened()
    return Panel(
        title=opened.opened_words,
        definition=definition,
        terms=(PanelTerm(f"credited amounts of {plural(len(rows), 'deal')}", money(int(amount.sum()))),),
        total=money(int(amount.sum())),
        total_words="together",
        **listed(opened.line, rows, [money(int(value)) for value in amount[:FIRST_DEALS]], amount),
    )


def people_sheet(opened: OpenedTable, name: str) -> Sheet:
    """The table as a file: deals and money of each cell."""
    header = ["person"]
    for head in (*opened.heads, "all"):
        header += [f"{head}, deals", f"{head}, amount"]
    _, rows = drawn(opened)
    cells = [(row.name, *(v for cell in row.cells for v in (cell.cell.deals, cell.cell.amount_minor))) for row in rows]
    return Sheet(name, tuple(header), frozenset(h for h in header if h.endswith(", amount")), cells)
