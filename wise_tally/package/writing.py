"""Writing the whole workspace as a package; the same state always gives the same bytes but for the created stamp."""

import csv
import json
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from babel.numbers import get_currency_precision
from django.db import transaction

from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.process.models import StageKind
from wise_tally.domain.targets.models import MONEY_METRICS
from wise_tally.package.cells import CellWriter
from wise_tally.package.tables import CLOSING_COLUMNS, STATE_COLUMNS, TABLES, Column, Table
from wise_tally.package.workspace_file import write_file

BATCH = 5_000
Rows = list[dict[str, Any]]


def write_tables(folder: Path, name: str, tables: dict[str, Rows]) -> None:
    """Write rows that code has made (as cells by column) as a package that can be read."""
    for table, rows in tables.items():
        with (folder / TABLES[table].path).open("w", encoding="utf-8", newline="") as file:
            out = csv.DictWriter(file, [column.name for column in TABLES[table].columns])
            out.writeheader()
            out.writerows(rows)
    resources = [{"name": table, "path": TABLES[table].path} for table in tables]
    descriptor = {"profile": "tabular-data-package", "name": name, "resources": resources}
    (folder / "datapackage.json").write_text(json.dumps(descriptor))


def write_package(folder: Path, now: datetime) -> dict[str, int]:
    """Write every table and the descriptor into `folder`; returns rows a table."""
    folder.mkdir(parents=True, exist_ok=True)
    workspace = Workspace.current()
    writer = CellWriter(get_currency_precision(workspace.currency), workspace.time_zone)
    counts = {}
    with transaction.atomic():
        for name, table in TABLES.items():
            with (folder / table.path).open("w", encoding="utf-8", newline="") as file:
                out = csv.writer(file, lineterminator="\r\n")
                out.writerow(column.name for column in table.columns)
                counts[name] = 0
                for row in _rows(table, writer):
                    out.writerow(row)
                    counts[name] += 1
        write_file(folder)
    descriptor = json.dumps(_descriptor(workspace, now), indent=1, ensure_ascii=False) + "\n"
    (folder / "datapackage.json").write_text(descriptor, encoding="utf-8")
    return counts


def _rows(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    special = {"settings": _settings, "deals": _deals, "deal_revisions": _revisions, "quotas": _quotas}
    if table.name in special:
        return special[table.name](table, writer)
    if table.more_of:
        return _further_columns(table, writer)
    return _plain_rows(table, writer)


def path_of(column: Column) -> str:
    """Where the models hold a column's value, as the ORM writes paths."""
    return column.attribute.removesuffix("_id") + "__key" if column.kind == "ref" else column.attribute


def _ordering(table: Table) -> list[str]:
    return [*(path_of(table.column(name)) for name in table.order), "pk"]


def _plain_rows(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    assert table.model is not None
    rows = table.model._default_manager.order_by(*_ordering(table)).values_list(*map(path_of, table.columns))
    for row in rows.iterator(BATCH):
        yield [writer.write(column, value) for column, value in zip(table.columns, row, strict=True)]


def _further_columns(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    """Rows that have any of these further columns."""
    assert table.model is not None
    paths = ["key", *map(path_of, table.columns[1:])]
    for row in table.model._default_manager.order_by("key").values_list(*paths).iterator(BATCH):
        if any(value not in (None, "", False) for value in row[1:]):
            yield [writer.write(column, value) for column, value in zip(table.columns, row, strict=True)]


def _settings(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    if workspace := Workspace.objects.first():
        for key in ("currency", "fiscal_year_start_month", "organisation", "time_zone"):
            yield [key, str(getattr(workspace, key))]


def _quotas(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    assert table.model is not None
    metric, value = (table.columns.index(table.column(name)) for name in ("metric", "value"))
    rows = table.model._default_manager.order_by(*_ordering(table)).values_list(*map(path_of, table.columns))
    money, number = Column("value", "money", True, "value"), table.column("value")
    for row in rows.iterator(BATCH):
        cells = [writer.write(column, cell) for column, cell in zip(table.columns, row, strict=True)]
        is_money = row[metric] in MONEY_METRICS
        cells[value] = writer.write(money, row[value]) if is_money else writer.write(number, row[value] * 100)
        yield cells


def _revisions(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    rows = DealRevision.objects.filter(deal__short_form=False).order_by("deal__key", "pk")
    for row in rows.values_list(*map(path_of, table.columns)).iterator(BATCH):
        yield [writer.write(column, value) for column, value in zip(table.columns, row, strict=True)]


def _deals(table: Table, writer: CellWriter) -> Iterator[list[str]]:
    own = [c for c in table.columns if c.name not in (*STATE_COLUMNS, *CLOSING_COLUMNS)]
    states = _short_states(table, writer)
    nothing = [""] * (len(STATE_COLUMNS) + len(CLOSING_COLUMNS))
    rows = Deal.objects.order_by("key").values_list(*map(path_of, own), "pk")
    for *row, pk in rows.iterator(BATCH):
        cells = dict(zip((c.name for c in own), map(writer.write, own, row), strict=True))
        cells |= dict(zip((*STATE_COLUMNS, *CLOSING_COLUMNS), states.get(pk, nothing), strict=True))
        yield [cells[column.name] for column in table.columns]


def _short_states(table: Table, writer: CellWriter) -> dict[int, list[str]]:
    """State, closing and stage lost from of short-form deals, as cells."""
    columns = [table.column(name) for name in (*STATE_COLUMNS, *CLOSING_COLUMNS)]
    paths = [path_of(column) for column in columns[: len(STATE_COLUMNS)]]
    rows = DealRevision.objects.filter(deal__short_form=True, void=False).values_list(
        "deal_id", *paths, "effective_at", "deal__lost_from__key", "stage__kind"
    )
    states: dict[int, list[str]] = {}
    for deal, *state, kind in rows.iterator(BATCH):
        if kind == StageKind.OPEN:
            state[-2] = None
        states[deal] = [writer.write(column, value) for column, value in zip(columns, state, strict=True)]
    return states


KINDS = {
    "whole": "integer",
    "flag": "boolean",
    "date": "date",
    "moment": "datetime",
    "percent": "number",
    "days": "number",
    "money": "number",
    "signed_money": "number",
    "number": "number",
}


def _descriptor(workspace: Workspace, now: datetime) -> dict[str, Any]:
    return {
        "profile": "tabular-data-package",
        "name": "workspace",
        "title": workspace.organisation,
        "created": now.isoformat(timespec="seconds"),
        "resources": [_resource(table) for table in TABLES.values()],
    }


def _resource(table: Table) -> dict[str, Any]:
    schema: dict[str, Any] = {"fields": [_field(column) for column in table.columns]}
    if len(table.unique) == 1:
        schema["primaryKey"] = list(table.unique)
    if foreign := [_foreign_key(table, column) for column in table.columns if column.kind == "ref"]:
        schema["foreignKeys"] = foreign
    return {
        "name": table.name,
        "path": table.path,
        "profile": "tabular-data-resource",
        "format": "csv",
        "mediatype": "text/csv",
        "encoding": "utf-8",
        "schema": schema,
    }


def _field(column: Column) -> dict[str, Any]:
    constraints: dict[str, Any] = {}
    if column.required:
        constraints["required"] = True
    if column.kind in ("id", "ref"):
        constraints["maxLength"] = 64
    if column.words:
        constraints["enum"] = list(column.words)
    field: dict[str, Any] = {"name": column.name, "type": KINDS.get(column.kind, "string")}
    if column.kind == "moment":
        field["format"] = "any"
    return {**field, "constraints": constraints} if constraints else field


def _foreign_key(table: Table, column: Column) -> dict[str, Any]:
    target = "" if column.target == table.name else column.target
    return {
        "fields": column.name,
        "reference": {"resource": target, "fields": TABLES[column.target].columns[0].name},
    }
