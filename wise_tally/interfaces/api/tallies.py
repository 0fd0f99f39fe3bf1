"""Tallies for programs: those kept and shared, those that ship, each as its page shows it."""

from typing import Annotated, Any

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from wise_tally.book.store import books
from wise_tally.domain.dashboards.actions import tallies_of
from wise_tally.domain.formats import plain_money
from wise_tally.interfaces.shared import CSV, PROBLEMS, Day, Key, PeriodText, csv_response, refuse_unknown
from wise_tally.pages.team.tallies.query import read_saved
from wise_tally.pages.team.tallies.result import Computing, compute
from wise_tally.pages.team.tallies.shipped import SHIPPED
from wise_tally.web.filter_line import scope_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility

router = Router(tags=["tallies"])


class TallyName(Schema):
    """A tally that can be asked: kept by somebody (`owner`), or shipped."""

    tally: str
    name: str
    owner: str | None
    query: str


class TallyScope(Schema):
    """The scope that a tally is asked for; what it keeps of its own goes before."""

    period: PeriodText | None = None
    as_of: Day | None = None
    who: Annotated[str | None, Field(max_length=80)] = None
    where: Key | None = None
    process: Key | None = None


class TallyAnswer(Schema):
    """Rows and columns; money as text with the currency's decimals, other values as numbers, null for none."""

    tally: str
    name: str
    period: str
    as_of: str
    columns: list[str]
    rows: list[dict[str, Any]]


@router.get("", response={200: list[TallyName], **PROBLEMS}, summary="The tallies that can be asked")
def names(request: PageRequest) -> list[dict[str, Any]]:
    """One's own, those that others share, those that ship."""
    refuse_unknown(request)
    viewer = request.viewer
    saved = [{"tally": t.key, "name": t.name, "owner": t.owner.key, "query": t.query} for t in tallies_of(viewer)]
    shipped = [{"tally": key, "name": one.name, "owner": None, "query": one.query} for key, one in SHIPPED.items()]
    return [*saved, *shipped]


def _answer(request: PageRequest, key: str, scope: TallyScope) -> dict[str, Any]:
    refuse_unknown(request, TallyScope)
    viewer = request.viewer
    named = {t.key: (t.name, t.query) for t in tallies_of(viewer).filter(key=key)}
    named |= {key: (SHIPPED[key].name, SHIPPED[key].query)} if key in SHIPPED else {}
    if key not in named:
        raise Refused(f"Report “{key}” not found. See /api/tallies for the list.", 404)
    name, query = named[key]
    tally = read_saved(query)
    given = {part: str(value) for part, value in scope.model_dump().items() if value}
    line = scope_of(viewer, {**given, **dict(tally.pinned)})
    result = compute(Computing(line, tally, lambda: Visibility(viewer, books.stored()).leads()))
    is_money = result.shape == "money" and not result.in_hundredths

    def value(number: int | float | None) -> Any:
        if number is None:
            return None
        if is_money:
            return str(plain_money(round(number)))
        return number / 100 if result.in_hundredths else number

    heads = [h if result.heads.count(h) == 1 else f"{h} {index}" for index, h in enumerate(result.heads, 1)]
    rows = [
        {"row": row.name} | {h: value(c.value) for h, c in zip(heads, row.cells, strict=True)} for row in result.rows
    ]
    return {
        "tally": key,
        "name": name,
        "period": line.period.text,
        "as_of": line.as_of.isoformat(),
        "columns": heads,
        "rows": rows,
    }


@router.get("/{tally}", response={200: TallyAnswer, **PROBLEMS}, summary="A report as of a day")
def tally(request: PageRequest, tally: Key, scope: Query[TallyScope]) -> dict[str, Any]:
    """The rows for the scope, narrowed to what the token's person may see."""
    return _answer(request, tally, scope)


@router.get("/{tally}/csv", response=PROBLEMS, openapi_extra={"responses": CSV}, summary="The same rows as CSV")
def tally_csv(request: PageRequest, tally: Key, scope: Query[TallyScope]) -> HttpResponse:
    """The rows for a spreadsheet."""
    return csv_response(_answer(request, tally, scope)["rows"], "tally")
