"""Trying an import: its rows are read as a package in a transaction that is put back; what it would have done is reported by row."""

import csv
import json
import tempfile
from collections import Counter
from collections.abc import Container, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path

from babel.numbers import get_currency_precision
from django.db import connection, transaction

from wise_tally.domain.deals.models import Account, DealRevision, OwnFieldValue
from wise_tally.domain.org.models import Workspace
from wise_tally.package.cells import CellWriter
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import check_package
from wise_tally.package.tables import STATE_COLUMNS, TABLES, Table
from wise_tally.package.writing import path_of
from wise_tally.pages.setup.imports import journal
from wise_tally.pages.setup.imports.kinds import Kind
from wise_tally.pages.setup.imports.prepare import GIVEN_TO_ACCOUNTS, Matching, Prepared, RowFault

NEW, CHANGED, UNCHANGED = "new", "changed", "unchanged"
ACCOUNTS = Account._meta.db_table
Identity = tuple[str, ...]
# Attributes that differ by row number, and own fields, as columns are named, by the record's identifier.
WrittenColumns = tuple[dict[int, set[str]], dict[str, set[str]]]
# The file and line of the package → the row it came from, and the own field it holds.
LineOf = tuple[tuple[str, int], tuple[int, str]]
Lines = dict[tuple[str, int], tuple[int, str]]


@dataclass(frozen=True)
class Effect:
    """What a good row does: it makes a record, changes these of its fields, or nothing."""

    kind: str
    fields: tuple[str, ...] = ()


@dataclass
class Rehearsal:
    """What taking the rows would do: effects by the file's row, faults in its order and how many more, accounts made."""

    effects: dict[int, Effect] = field(default_factory=dict)
    faults: list[RowFault] = field(default_factory=list)
    more: int = 0
    accounts: int = 0


def rehearse(kind: Kind, prepared: Prepared, matching: Matching, now: datetime) -> Rehearsal:
    """Try the good rows; rows with faults of the table's own checks are left out until the rest is accepted."""
    tried, rows = Rehearsal(faults=list(prepared.faults)), prepared.rows
    while rows:
        with tempfile.TemporaryDirectory() as name:
            lines = write_rows(Path(name), kind, replace(prepared, rows=rows))
            try:
                checked = check_package(Path(name), most=len(rows))
                with checked.ready() as ready, transaction.atomic():
                    with journal.journalling() as before:
                        ready.take(now)
                        noted = journal.written(before, marked=False)
                        columns = _written_columns(kind, noted)
                        parts = _effects_of_parts(rows, noted, kind) if TABLES[kind.slug].of_deal else None
                    tried.accounts = len(noted[ACCOUNTS].inserted) if kind.slug != "accounts" else 0
                    transaction.set_rollback(True)
                # Faults that need nothing more than the present data are reported while others write.
                tried.effects = _effects(kind, rows, columns) if parts is None else parts
                break
            except PackageRefused as refused:
                faults = faults_of_rows(kind, refused, lines, matching)
                tried.more = refused.report.more
        tried.faults += faults
        wrong = {fault.row for fault in faults}
        good = [row for row in rows if row[0] not in wrong]
        # A fault of the file itself stands in no row.
        rows = good if len(good) < len(rows) else []
    tried.faults.sort(key=lambda fault: fault.row)
    return tried


def name_of(kind: Kind) -> str:
    """The table of the database that rows of a kind stand in."""
    model = TABLES[kind.slug].model
    assert model is not None
    return model._meta.db_table


def _written_columns(kind: Kind, noted: dict[str, journal.TableJournal]) -> WrittenColumns:
    """What was changed in existing rows, read before it is put back."""
    name = name_of(kind)
    differing = journal.differing(name, noted[name])
    if kind.slug == "deals":
        for deal, columns in _moved(noted, noted[name].inserted).items():
            differing[deal] = differing.get(deal, set()) | columns
    return differing, _own_changed(noted)


def _effects(kind: Kind, rows: list[tuple[int, dict[str, str]]], written: WrittenColumns) -> dict[int, Effect]:
    """The effect of each row, from what was written of those that are there."""
    table, (differing, own) = TABLES[kind.slug], written
    numbers = _numbers(table)
    words = {kind.column(name).attribute: kind.words(name) for name in kind.columns}
    effects = {}
    for row, cells in rows:
        identity = tuple(cells.get(column, "") for column in table.unique)
        number = numbers.get(identity)
        if number is None:
            effects[row] = Effect(NEW)
            continue
        changed = differing.get(number, set()) | own.get(identity[0], set())
        fields = tuple(words[word] for word in words if word in changed)
        effects[row] = Effect(CHANGED if fields else UNCHANGED, fields)
    return effects


def _effects_of_parts(
    rows: list[tuple[int, dict[str, str]]], written: dict[str, journal.TableJournal], kind: Kind
) -> dict[int, Effect]:
    """Parts of deals replace those there were: a row is new unless the deal had one just like it."""
    table, noted = name_of(kind), written[name_of(kind)]
    column = noted.columns.index("id") if noted.columns else 0
    had = Counter(tuple(old[:column] + old[column + 1 :]) for old in noted.deleted.values())
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT * FROM {table} WHERE id > %s ORDER BY id", [min(noted.inserted, default=1) - 1])
        made = [tuple(row[:column] + row[column + 1 :]) for row in cursor.fetchall() if row[column] in noted.inserted]
    effects = {}
    for (line, _), values in zip(rows, made, strict=True):
        effects[line] = Effect(UNCHANGED if had[values] else NEW)
        had[values] -= 1
    return effects


def _own_changed(noted: dict[str, journal.TableJournal]) -> dict[str, set[str]]:
    """Own fields whose values were written."""
    values = noted[OwnFieldValue._meta.db_table]
    rows = OwnFieldValue.objects.filter(pk__in={*values.inserted, *values.before})
    changed: dict[str, set[str]] = {}
    for subject, key in rows.values_list("subject_key", "field__key"):
        changed.setdefault(subject, set()).add(f"own:{key}")
    return changed


def _numbers(table: Table) -> dict[Identity, int]:
    """Row numbers by what identifies the table's rows, as cells."""
    assert table.model is not None
    workspace = Workspace.current()
    writer = CellWriter(get_currency_precision(workspace.currency), workspace.time_zone)
    columns = [table.column(name) for name in table.unique]
    rows = table.model._default_manager.values_list("pk", *map(path_of, columns))
    return {tuple(map(writer.write, columns, values)): number for number, *values in rows}


def _moved(noted: dict[str, journal.TableJournal], made: Container[int]) -> dict[int, set[str]]:
    """Attributes in which the new revision of a deal that was there differs from the one before."""
    revisions = noted[DealRevision._meta.db_table].inserted
    attributes = [TABLES["deals"].column(name).attribute for name in STATE_COLUMNS]
    added = (
        DealRevision.objects.filter(pk__range=(min(revisions), max(revisions)))
        if revisions
        else DealRevision.objects.none()
    )
    deals = {deal for deal in added.values_list("deal_id", flat=True) if deal not in made}
    states: dict[int, list[tuple[object, ...]]] = {}
    written = DealRevision.objects.filter(deal_id__in=deals, void=False).order_by("pk")
    for deal, *state in written.values_list("deal_id", *attributes):
        states.setdefault(deal, []).append(tuple(state))
    return {
        deal: {name for name, before, after in zip(attributes, *of_deal[-2:], strict=True) if before != after}
        for deal, of_deal in states.items()
    }


def faults_of_rows(kind: Kind, refused: PackageRefused, lines: Lines, matching: Matching) -> list[RowFault]:
    """Faults of the package as faults of the file's rows and headings."""
    faults = []
    for fault in refused.report.faults:
        row, own = lines.get((fault.file, fault.row), (0, ""))
        name = own if own and fault.column == "value" else fault.column
        faults.append(RowFault(row, matching.columns.get(name, name), fault.wrong, fault.right))
    return faults


def write_rows(folder: Path, kind: Kind, prepared: Prepared) -> Lines:
    """Write the package of the prepared rows; returns the file's row, and the own field, of each line of each of its files."""
    present = list(dict.fromkeys(name for _, row in prepared.rows[:1] for name in row)) or list(kind.columns)
    of_table = {column.name for column in TABLES[kind.slug].columns}
    key, own = kind.columns[0], [name for name in present if name in kind.own]
    details = [name for name in present if name not in of_table and name not in kind.own]
    files: dict[str, tuple[list[str], list[tuple[int, str, list[str]]]]] = {}
    main = [name for name in present if name in of_table]
    files[kind.slug] = (main, [(line, "", [row.get(name, "") for name in main]) for line, row in prepared.rows])
    if details:
        columns = [key, *details]
        rows = [(line, "", [row.get(name, "") for name in columns]) for line, row in prepared.rows]
        files[kind.details] = (columns, rows)
    if own:
        values = [
            (line, name, [name.partition(":")[2], row[key], row[name]])
            for line, row in prepared.rows
            for name in own
            if row.get(name)
        ]
        files["field_values"] = (["field_id", "subject_id", "value"], values)
    if prepared.accounts:
        columns = ["account_id", "name", *GIVEN_TO_ACCOUNTS]
        made = [(0, "", [account_key, *account.values()]) for account_key, account in prepared.accounts.items()]
        files["accounts"] = (columns, made)
    resources = [{"name": name, "path": f"{name}.csv"} for name in files]
    descriptor = {"profile": "tabular-data-package", "name": "import", "resources": resources}
    (folder / "datapackage.json").write_text(json.dumps(descriptor))
    return {
        number: origin
        for name, (columns, rows) in files.items()
        for number, origin in _write(folder, name, columns, rows)
    }


def _write(folder: Path, name: str, columns: list[str], rows: list[tuple[int, str, list[str]]]) -> Iterator[LineOf]:
    """Write one file; yields for each line that begins a record whose it is."""
    with (folder / f"{name}.csv").open("w", encoding="utf-8", newline="") as file:
        out = csv.writer(file, lineterminator="\n")
        out.writerow(columns)
        line = 2
        for number, own, cells in rows:
            out.writerow(cells)
            yield (f"{name}.csv", line), (number, own)
            line += 1 + sum(cell.count("\n") for cell in cells)
