"""Contact gap: whose open deals have not been talked about for how many contact intervals, weighted by money."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.answers.results import of_contact_gaps
from wise_tally.core.money import Ints
from wise_tally.core.people_table import missed_columns
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.selectors import CONTACT_KINDS, last_contacts
from wise_tally.pages.team.matrix import OpenedTable, PeopleQuery, page_context, part_working, people_sheet, read_opened
from wise_tally.web import deal_columns
from wise_tally.web.answers import answer_sentence
from wise_tally.web.deal_rows import DealRow, named
from wise_tally.web.files.tables import sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.viewing import PageRequest

HEADS = ("in time", "1 missed", "2 missed", "3 missed", "4 or more missed")


@dataclass(frozen=True)
class GapQuery(PeopleQuery):
    """Open deals of the scope by the contact intervals missed, whatever their expected close."""

    @cached_property
    def columns(self) -> tuple[Ints, tuple[str, ...]]:
        """A column a number of missed intervals."""
        is_open = self.line.snapshot.kind == OPEN
        rows, _, gaps = deal_columns.open_contacts(self.line)
        missed = np.zeros(len(is_open), dtype=np.int64)
        missed[rows] = gaps
        return missed_columns(missed, is_open), HEADS


def read(request: PageRequest) -> OpenedTable:
    """The matrix that an address asks for."""
    return read_opened(request, GapQuery.read(read_scope(request), request.GET))


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The matrix, and the deals of a cell with the last contact of their customers."""
    opened = read(request)
    context = page_context(request, opened, "team:gaps-table")
    names_of_people, (together, people) = opened.line.book.reference.people, opened.table
    whole = [cell.deals for cell in together.cells]
    late = [(names_of_people[row.person].name, [cell.deals for cell in row.cells]) for row in people]
    answer = {
        **context,
        "answer_sentence": answer_sentence(of_contact_gaps(whole, late), {}),
        "page_query": opened.query,
        "kinds": CONTACT_KINDS,
    }
    if answer["opened"] is not None:
        answer["opened"] = _with_contacts(answer["opened"], opened.line)
    return render(request, "team/contact_gap.html", answer)


def _with_contacts(shown: list[tuple[DealRow, int]], line: FilterLine) -> list[tuple[DealRow, int, object]]:
    """The rows with the last contact of each customer."""
    index_of = line.book.index_by_key
    deals = named(line.book, [index_of[row.key] for row, _ in shown])
    last = last_contacts(deals.values(), line.ends_at)
    return [(row, part, last.get(deals[row.key].pk)) for row, part in shown]


DEFINITION = (
    "Open deals credited to the person, by missed contacts: contact intervals passed since the last phone call, meeting, "
    "e-mail or visit (or since the deal was created). The interval comes from the account class, else the "
    "process, else 14 days."
)


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How a cell came about."""
    return part_working(request, read(request), DEFINITION, "team:gaps")


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The matrix as a file."""
    return sheet_response(people_sheet(read(request), "contact gaps"), kind)
