"""Tables as CSV, XLSX and JSON of exactly what is shown."""

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import xlsxwriter
from django.http import HttpResponse, JsonResponse
from django.urls import reverse

from wise_tally.domain.formats import plain_money
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

KINDS = ("csv", "xlsx", "json")


def exports(name: str, query: str, *about: str) -> tuple[tuple[str, str], ...]:
    """Label and address of the files of a table: `name` is that of its address, which takes what it is about and the kind."""
    return tuple((kind.upper(), f"{reverse(name, args=[*about, kind])}?{query}") for kind in KINDS)


@dataclass(frozen=True)
class Sheet:
    """A table: header, the columns that are money (minor units), rows."""

    name: str
    header: tuple[str, ...]
    money: frozenset[str]
    rows: Sequence[Sequence[Any]]

    def cells(self) -> list[list[Any]]:
        """Rows with money as text in major units; None stays none."""
        return [
            [
                str(plain_money(v)) if n in self.money and v is not None else v
                for n, v in zip(self.header, row, strict=True)
            ]
            for row in self.rows
        ]


def chosen_sheet(request: PageRequest, sheets: Mapping[str, Callable[[], Sheet]], kind: str) -> HttpResponse:
    """The file of the table that the address names, the page's main one without a name; raises Refused."""
    name = request.GET.get("table", "")
    if name not in sheets:
        accepted = ", ".join(sorted(filter(None, sheets)))
        raise Refused(
            f"“{name[:40]}” is not a table of this page. Choose one of: {accepted}, or leave it empty for the main one.",
            404,
        )
    return sheet_response(sheets[name](), kind)


def sheet_response(sheet: Sheet, kind: str) -> HttpResponse:
    """The file of a sheet; raises Refused for a kind that is not there."""
    one_of(kind, KINDS, "is not a format", 404)
    if kind == "json":
        return JsonResponse({"columns": sheet.header, "rows": sheet.cells()})
    content, mime = (_csv(sheet), "text/csv; charset=utf-8") if kind == "csv" else (_xlsx(sheet), XLSX)
    return HttpResponse(
        content, content_type=mime, headers={"Content-Disposition": f'attachment; filename="{sheet.name}.{kind}"'}
    )


XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
RISKY = ("=", "+", "-", "@", "\t", "\r")


def _csv(sheet: Sheet) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    # Text that a spreadsheet would take for a formula is marked as text, headings of own fields and stages too.
    writer.writerow("'" + name if name.startswith(RISKY) else name for name in sheet.header)
    for row, cells in zip(sheet.rows, sheet.cells(), strict=True):
        writer.writerow(
            "'" + c if isinstance(v, str) and v.startswith(RISKY) else c for v, c in zip(row, cells, strict=True)
        )
    return out.getvalue()


def _xlsx(sheet: Sheet) -> bytes:
    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}) as book:
        page = book.add_worksheet(sheet.name)
        page.write_row(0, 0, sheet.header)
        for number, row in enumerate(sheet.cells(), 1):
            for column, value in enumerate(row):
                is_money = sheet.header[column] in sheet.money and value is not None
                page.write(number, column, float(value) if is_money else value)
    return out.getvalue()
