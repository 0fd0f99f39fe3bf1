"""Deals as they stood at the end of a day."""

from dataclasses import replace
from datetime import date
from typing import Annotated, Any, Literal

import numpy as np
from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from wise_tally.book.store import books
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.lines import deals_in
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.domain.formats import currency_decimals
from wise_tally.interfaces.shared import CSV, PROBLEMS, Day, Key, csv_response, refuse_unknown
from wise_tally.package.cells import scaled
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.filter_line import FilterLine, scope_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility

router = Router(tags=["deals"])
KINDS = {"open": OPEN, "won": WON, "lost": LOST}
MOST_A_PAGE = 500
TOTAL = "X-Total-Count"


class DealOptions(Schema):
    """Which deals: whose, where, of which process, in which status."""

    as_of: Day | None = None
    process: Key | None = None
    team: Key | None = None
    territory: Key | None = None
    person: Key | None = None
    status: Literal["all", "open", "won", "lost"] = "all"


class PagedOptions(DealOptions):
    """The same, a page at a time."""

    page: Annotated[int, Field(ge=1, le=1_000_000)] = 1
    per_page: Annotated[int, Field(ge=1, le=MOST_A_PAGE)] = 100


class DayOption(Schema):
    """The day of the state."""

    as_of: Day | None = None


class DealState(Schema):
    """A deal's state; money as text with the currency's decimals, dates ISO 8601, null for none."""

    deal_id: str
    name: str
    account: str | None
    account_name: str | None
    process: str
    process_name: str
    stage: str
    stage_name: str
    status: str
    amount: str
    weighted: str
    probability: float
    expected_close: date | None
    closed_on: date | None
    category: str | None
    category_name: str | None
    owner: str
    owner_name: str
    territory: str | None
    territory_name: str | None
    days_in_stage: float
    slips: int
    next_step: str


class DealPage(Schema):
    """One page of the deals, the largest amounts first; `next` is the address of the one after, null on the last."""

    as_of: date
    total: int
    page: int
    pages: int
    next: str | None
    deals: list[DealState]


def _line(request: PageRequest, options: DealOptions) -> FilterLine:
    who = f"person:{options.person}" if options.person else f"team:{options.team}" if options.team else ""
    given = {"who": who, "where": options.territory or "", "process": options.process or ""}
    as_of = options.as_of.isoformat() if options.as_of else ""
    return scope_of(request.viewer, {**given, "as_of": as_of})


def _places(line: FilterLine, status: str) -> Ints:
    """Places of the deals of the scope, the largest first, equal ones in the book's order."""
    snapshot = line.snapshot
    rows = deals_in(line.book, snapshot, line.scope)
    if status != "all":
        rows = rows[snapshot.kind[rows] == KINDS[status]]
    return rows[np.argsort(-snapshot.amount_minor[rows], kind="stable")]


def _states(line: FilterLine, indices: list[int]) -> list[dict[str, Any]]:
    return [_state(line, index, row) for index, row in deal_rows(line, indices).items()]


def _state(line: FilterLine, index: int, row: DealRow) -> dict[str, Any]:
    reference, snapshot, decimals = line.book.reference, line.snapshot, currency_decimals()
    territory, kind = int(snapshot.territory[index]), int(snapshot.kind[index])
    return {
        "deal_id": row.key,
        "name": row.name,
        "account": row.account or None,
        "account_name": row.account_name or None,
        "process": row.process,
        "process_name": reference.processes[reference.stages[int(snapshot.stage[index])].process][1],
        "stage": row.stage,
        "stage_name": row.stage_name,
        "status": next(name for name, number in KINDS.items() if number == kind),
        "amount": scaled(row.amount_minor, decimals),
        "weighted": scaled(row.weighted_minor, decimals),
        "probability": row.probability_bp / 100,
        "expected_close": date.fromordinal(row.expected_close) if row.expected_close != NO_DAY else None,
        "closed_on": date.fromordinal(row.closed_on) if row.closed_on != NO_DAY else None,
        "category": row.category or None,
        "category_name": row.category_name or None,
        "owner": reference.people[int(snapshot.owner[index])].key,
        "owner_name": row.owner_name,
        "territory": reference.territories[territory].key if territory >= 0 else None,
        "territory_name": row.territory_name or None,
        "days_in_stage": row.days_in_stage,
        "slips": row.slips,
        "next_step": row.next_step,
    }


@router.get("", response={200: DealPage, **PROBLEMS}, summary="Deals as of a day")
def deals(request: PageRequest, response: HttpResponse, options: Query[PagedOptions]) -> dict[str, Any]:
    """A page of the deals that the token's person may see; the headers, too, hold how many there are and where to go on."""
    refuse_unknown(request, PagedOptions)
    line = _line(request, options)
    rows = _places(line, options.status)
    first, pages = (options.page - 1) * options.per_page, max(1, -(-len(rows) // options.per_page))
    following = None
    if options.page < pages:
        parameters = request.GET.copy()
        parameters["page"] = str(options.page + 1)
        following = request.build_absolute_uri(f"{request.path}?{parameters.urlencode()}")
        response["Link"] = f'<{following}>; rel="next"'
    response[TOTAL] = str(len(rows))
    return {
        "as_of": line.as_of,
        "total": len(rows),
        "page": options.page,
        "pages": pages,
        "next": following,
        "deals": _states(line, rows[first : first + options.per_page].tolist()),
    }


@router.get("/csv", response=PROBLEMS, openapi_extra={"responses": CSV}, summary="All the deals as CSV")
def deals_csv(request: PageRequest, options: Query[DealOptions]) -> HttpResponse:
    """Every deal for a spreadsheet, never a page of them."""
    refuse_unknown(request, DealOptions)
    line = _line(request, options)
    rows = _places(line, options.status).tolist()
    answer = csv_response(_states(line, rows), "deals")
    answer[TOTAL] = str(len(rows))
    return answer


@router.get("/{deal_id}", response={200: DealState, **PROBLEMS}, summary="One deal as of a day")
def deal(request: PageRequest, deal_id: Key, options: Query[DayOption]) -> dict[str, Any]:
    """The state of one deal; one that is not open to the token's person looks like one that is not there."""
    refuse_unknown(request, DayOption)
    viewer, stored = request.viewer, books.stored()
    index = stored.book.index_by_key.get(deal_id)
    if index is None or not Visibility(viewer, stored).sees_deal(int(stored.deal_numbers[index])):
        raise Refused(f"There is no deal “{deal_id}” here.", 404)
    line = _everything(request, options.as_of)
    row = int(np.searchsorted(line.snapshot.deal, index))
    if row >= len(line.snapshot.deal) or int(line.snapshot.deal[row]) != index:
        raise Refused(f"The deal did not exist yet on {line.as_of}. Choose a later date.", 404)
    return _states(line, [row])[0]


def _everything(request: PageRequest, as_of: date | None) -> FilterLine:
    """The book on a day without a filter; who may see the deal was asked before."""
    given = {"as_of": as_of.isoformat()} if as_of else {}
    line = scope_of(request.viewer, given)
    return replace(line, whose_fixed=True)
