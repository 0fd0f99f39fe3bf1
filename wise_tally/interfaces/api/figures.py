"""Every figure of the `figures` command, with the same options and the same answer."""

from collections.abc import Callable, Iterable
from typing import Annotated, Any

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import AfterValidator, Field

from wise_tally.core.breakdowns import OF_FIGURES
from wise_tally.core.bridge import MEASURES
from wise_tally.core.conversion import BASES
from wise_tally.domain.org.clock import today
from wise_tally.interfaces.figures import FIGURES, figures
from wise_tally.interfaces.question import Question
from wise_tally.interfaces.shared import CSV, PROBLEMS, Day, Key, PeriodText, csv_response, refuse_unknown
from wise_tally.web.request.viewing import PageRequest

router = Router(tags=["figures"])


def _among(accepted: Iterable[str]) -> Callable[[str], str]:
    words = tuple(accepted)

    def check(text: str) -> str:
        if text not in words:
            raise ValueError(f"“{text[:40]}” is not valid. Choose one of: {', '.join(words)}.")
        return text

    return check


def _words(accepted: Iterable[str]) -> Any:
    return Field(json_schema_extra={"enum": list(accepted)})


Figure = Annotated[str, AfterValidator(_among(FIGURES)), _words(FIGURES)]
Breakdown = Annotated[str, AfterValidator(_among(OF_FIGURES)), _words(OF_FIGURES)]
Basis = Annotated[str, AfterValidator(_among(BASES)), _words(BASES)]
Measure = Annotated[str, AfterValidator(_among(MEASURES)), _words(MEASURES)]


class FigureOptions(Schema):
    """The options of `./tally figures`; see docs/exchange.md."""

    period: PeriodText | None = None
    as_of: Day | None = None
    by: Breakdown = "company"
    process: Key | None = None
    team: Key | None = None
    territory: Key | None = None
    person: Key | None = None
    basis: Basis = "created"
    strict: bool = False
    decided_only: bool = False
    value: bool = False
    leave_out: Annotated[list[Key], Field(max_length=50)] = []
    since: Annotated[Day | None, Field(alias="from")] = None
    measure: Measure = "weighted"


class FigureAnswer(Schema):
    """Rows of a figure: money as text with the currency's decimals, ratios 0 to 1, days as numbers, null for none."""

    figure: str
    scope: dict[str, Any]
    rows: list[dict[str, Any]]


def _answer(request: PageRequest, name: str, options: FigureOptions) -> dict[str, Any]:
    refuse_unknown(request, FigureOptions)
    values = options.model_dump(by_alias=False)
    question = Question(
        figure=name,
        as_of=values.pop("as_of") or today(),
        by_value=values.pop("value"),
        leave_out=tuple(values.pop("leave_out")),
        **values,
    )
    return figures(question, request.viewer)


@router.get("/{name}", response={200: FigureAnswer, **PROBLEMS}, summary="A figure as of a day")
def figure(request: PageRequest, name: Figure, options: Query[FigureOptions]) -> dict[str, Any]:
    """The figure for the scope, narrowed to what the token's person may see."""
    return _answer(request, name, options)


@router.get("/{name}/csv", response=PROBLEMS, openapi_extra={"responses": CSV}, summary="The same rows as CSV")
def figure_csv(request: PageRequest, name: Figure, options: Query[FigureOptions]) -> HttpResponse:
    """The rows for a spreadsheet."""
    return csv_response(_answer(request, name, options)["rows"], name)
