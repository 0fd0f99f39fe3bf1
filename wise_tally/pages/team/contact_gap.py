"""Contact gap: whose open deals have not been talked about for how many contact intervals, weighted by money."""

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.people_table import missed_columns
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.selectors import last_contacts
from wise_tally.pages.team.matrix import Question, drawn, opened_rows, part_panel, people_sheet, read_opened
from wise_tally.pages.team.query import tabs
from wise_tally.web import deal_columns
from wise_tally.web.deal_rows import DealRow, named
from wise_tally.web.files.tables import exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import panel_response

HEADS = ("none missed", "1", "2", "3", "more")
PLANNED = ("phone", "mail", "meeting", "site_visit")


def read(request: PageRequest) -> Question:
    """Open deals of the scope by the contact intervals missed, whatever their expected close."""
    line = read_scope(request)
    is_open = line.snapshot.kind == OPEN
    rows = np.flatnonzero(is_open)
    missed = np.zeros(len(is_open), dtype=np.int64)
    missed[rows] = deal_columns.gaps(line, rows)
    return read_opened(request, Question(line, missed_columns(missed, is_open), HEADS))


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The matrix, and the deals of a cell with the last contact of their customers."""
    asked = read(request)
    whole, rows = drawn(asked)
    shown = opened_rows(request, asked)
    answer = {
        "line": asked.line,
        "tabs": tabs(asked.line, "gaps"),
        "asked": asked,
        "heads": asked.heads,
        "whole": whole,
        "rows": rows,
        "kinds": PLANNED,
        "here": request.get_full_path(),
        "footer": Footer(whole.cells[-1].cell.deals, exports=exports("team:gaps-table", asked.query())),
        **shown,
    }
    if shown["opened"] is not None:
        answer["opened"] = _with_contacts(shown["opened"], asked.line)
    return render(request, "team/contact_gap.html", answer)


def _with_contacts(shown: list[tuple[DealRow, int]], line: FilterLine) -> list[tuple[DealRow, int, object]]:
    """The rows with the last contact of each customer."""
    indices = line.book.index_by_key
    deals = named(line.book, [indices[row.key] for row, _ in shown])
    last = last_contacts(deals.values(), line.ends_at)
    return [(row, part, last.get(deals[row.key].pk)) for row, part in shown]


DEFINITION = (
    "Open deals in which the person is credited, by the whole contact intervals gone by since anybody last phoned, met, wrote to or saw "
    "the customer (or since the deal was created). The interval is that of the account’s class, else of the process, else fourteen days."
)


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How a cell came about."""
    asked = read(request)
    return panel_response(
        request,
        asked.line,
        part_panel(asked, DEFINITION),
        f"{reverse('team:gaps')}?{asked.query()}",
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The matrix as a file."""
    return sheet_response(people_sheet(read(request), "contact gap"), kind)
