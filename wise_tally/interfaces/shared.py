"""What all parts of the interface share: who asks, problems in words, tables as CSV."""

import csv
import io
from collections.abc import Sequence
from datetime import date
from hashlib import sha256
from typing import Annotated, Any, cast

from django.http import HttpRequest, HttpResponse
from ninja import Schema
from ninja.security import HttpBasicAuth, HttpBearer
from ninja.throttling import SimpleRateThrottle
from pydantic import Field

from wise_tally.domain.org.access import has_left, viewer_of
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.token_actions import person_of_token
from wise_tally.web.files.tables import RISKY
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

# A day that the book can be read at.
Day = Annotated[date, Field(ge=date(1900, 1, 1), le=date(2199, 12, 31))]
# The core refuses other texts in its own words; the pattern is for programs.
PERIOD = r"^(FY\d{4}(-Q[1-4]|-M(0[1-9]|1[0-2]))?|\d{4}-W\d{2}|\d{4}-\d{2}-\d{2}/\d{4}-\d{2}-\d{2})$"
PeriodText = Annotated[str, Field(max_length=30, json_schema_extra={"pattern": PERIOD})]
Key = Annotated[str, Field(max_length=64)]
CSV = {
    200: {
        "description": "One line a row; an empty cell is none.",
        "content": {"text/csv": {"schema": {"type": "string"}}},
    }
}


class Problem(Schema):
    """What was wrong and what is accepted."""

    detail: str


PROBLEMS = {401: Problem, 403: Problem, 404: Problem, 422: Problem}


def _known(request: HttpRequest, token: str) -> str | None:
    """Let the request speak for the token's person; None where it is nobody's."""
    person = person_of_token(token, now())
    page_request = cast(PageRequest, request)
    page_request.token = sha256(token.encode()).hexdigest()
    if person is None or has_left(person, today()):
        return None
    page_request.viewer = viewer_of(person)
    return person.key


class Token(HttpBearer):
    """A personal token in the header `Authorization: Bearer …`."""

    def authenticate(self, request: HttpRequest, token: str) -> str | None:
        """The identifier of the token's person."""
        return _known(request, token)


class TokenAsPassword(HttpBasicAuth):
    """The same as the password of any name, for spreadsheets that cannot send another header."""

    def authenticate(self, request: HttpRequest, username: str, password: str) -> str | None:
        """The identifier of the token's person."""
        return _known(request, password)


class OfAToken(SimpleRateThrottle):
    """So many requests of one token in a minute, whoever else asks."""

    scope = "token"

    def get_cache_key(self, request: HttpRequest) -> str | None:
        """The token's hash; requests without one are refused before."""
        token = getattr(request, "token", None)
        return self.cache_format % {"scope": self.scope, "ident": token} if token else None


def refuse_unknown(request: PageRequest, *options: type[Schema]) -> None:
    """Raise Refused for a parameter that none of the schemas has, so that a slip of the pen is not answered as if it were none."""
    known = {field.alias or name for schema in options for name, field in schema.model_fields.items()}
    if unknown := [name for name in request.GET if name not in known]:
        accepted = ", ".join(sorted(known)) or "none"
        raise Refused(f"“{unknown[0][:40]}” is not a parameter here. Use one of: {accepted}.", 422)


def csv_response(rows: Sequence[dict[str, Any]], name: str) -> HttpResponse:
    """Rows as CSV; nested values get columns of their own."""
    flat_rows = [flat(row) for row in rows]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    header = list(dict.fromkeys(column for row in flat_rows for column in row))
    writer.writerow(header)
    writer.writerows([_cell(row.get(column)) for column in header] for row in flat_rows)
    return HttpResponse(
        out.getvalue(),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )


def _cell(value: Any) -> Any:
    if value is None:
        return ""
    # Text that a spreadsheet would take for a formula is marked as text; numbers are no text.
    if isinstance(value, str) and value.startswith(RISKY) and not _is_number(value):
        return "'" + value
    return value


def _is_number(text: str) -> bool:
    return text.lstrip("-").replace(".", "", 1).isdigit()


def flat(row: dict[str, Any]) -> dict[str, Any]:
    """Nested values as columns of their own."""
    cells: dict[str, Any] = {}
    for name, value in row.items():
        if isinstance(value, dict):
            cells |= {f"{name}.{key}": inner for key, inner in value.items()}
        else:
            cells[name] = value
    return cells
