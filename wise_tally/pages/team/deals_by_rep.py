"""Open by rep, for the Monday meeting: what each has open, won or lost, by stage or by month, and the deals behind."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.answers.results import of_deals_by_rep
from wise_tally.core.buckets import deciding_day
from wise_tally.core.calendar import Period
from wise_tally.core.money import Ints
from wise_tally.core.people_table import month_columns, stage_columns
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE
from wise_tally.pages.team.matrix import (
    DrawnRow,
    OpenedTable,
    PeopleQuery,
    page_context,
    part_working,
    people_sheet,
    read_opened,
)
from wise_tally.web.answers import answer_sentence
from wise_tally.web.files.tables import sheet_response
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.page_query import choice
from wise_tally.web.request.viewing import PageRequest

KINDS = {"open": OPEN, "won": WON, "lost": LOST}
ALONG = {"stage": "stage", "month": "month"}
MONTHS = 6


@dataclass(frozen=True)
class ByRepQuery(PeopleQuery):
    """Open deals count whatever their expected close, closed ones in the period."""

    show: str = choice(KINDS)
    along: str = choice(ALONG)

    @cached_property
    def columns(self) -> tuple[Ints, tuple[str, ...]]:
        """By stage or by month, as asked."""
        line = self.line
        column, heads = (stages_of if self.along == "stage" else months_of)(line, self.show)
        if self.show == "open":
            return column, heads
        day = deciding_day(line.snapshot)
        inside = (day >= line.period.starts_on.toordinal()) & (day <= line.period.ends_on.toordinal())
        return np.where(inside, column, NONE), heads


def read(request: PageRequest) -> OpenedTable:
    """The table that an address asks for."""
    return read_opened(request, _query_of(request))


def _query_of(request: PageRequest) -> ByRepQuery:
    return ByRepQuery.read(read_scope(request), request.GET)


def stages_of(line: FilterLine, show: str) -> tuple[Ints, tuple[str, ...]]:
    """The stage each deal stands in and the stages' names; several processes stand side by side."""
    reference = line.book.reference
    column, order = stage_columns(line.book, line.snapshot, line.scope.process, KINDS[show])
    several = line.scope.process == NONE and len(reference.processes) > 1
    names = [(reference.stages[stage].name, reference.processes[reference.stages[stage].process][1]) for stage in order]
    return column, tuple(f"{name}, {process}" if several else name for name, process in names)


def months_of(line: FilterLine, show: str) -> tuple[Ints, tuple[str, ...]]:
    """The month each deal is expected to close in, or was closed in, and the months' names."""
    months = _months_shown(line, show)
    column, heads = month_columns(line.snapshot, months, KINDS[show]), [period_words(month) for month in months]
    return column, (f"before {heads[0]}", *heads, "later", "no close date") if show == "open" else tuple(heads)


def _months_shown(line: FilterLine, show: str) -> list[Period]:
    """Open: the present month and those ahead; else the months of the period."""
    fiscal = line.book.reference.fiscal
    if show == "open":
        present = fiscal.containing(line.as_of, "month")
        return [fiscal.shifted(present, step) for step in range(MONTHS)]
    months: list[Period] = []
    month = fiscal.containing(line.period.starts_on, "month")
    while month.starts_on <= line.period.ends_on and len(months) < 2 * MONTHS:
        months.append(month)
        month = fiscal.shifted(month, 1)
    return months


def _people(whole: DrawnRow, rows: list[DrawnRow]) -> tuple[int, int, list[tuple[str, int]]]:
    """All deals and their amount, and people with theirs."""
    every = whole.cells[-1].cell
    return every.deals, every.amount_minor, [(row.name, row.cells[-1].cell.amount_minor) for row in rows]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The table and the deals behind its opened part."""
    query = _query_of(request)
    context = page_context(request, read_opened(request, query), "team:open-table")
    answer = {
        **context,
        "answer_sentence": answer_sentence(of_deals_by_rep(*_people(context["whole"], context["rows"])), {}),
        "page_query": query,
        "shows": query.links("show", {name: name for name in KINDS}),
        "alongs": query.links("along", ALONG),
        "is_open": query.show == "open",
    }
    return render(request, "team/open_by_rep.html", answer)


DEFINITION = (
    "Deals credited to the person, by stage or by month of the close date. Open deals of all close dates "
    "and categories; closed deals of the period. Shared deals appear with each person."
)


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How a cell came about."""
    return part_working(request, read(request), DEFINITION, "team:open")


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The table as a file."""
    return sheet_response(people_sheet(read(request), "deals by rep"), kind)
