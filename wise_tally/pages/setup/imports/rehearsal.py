"""Trying an import: its rows are read as a package in a transaction that is put back; what it would have done is told by row."""

import csv
import json
import tempfile
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path

from babel.numbers import get_currency_precision
from django.db import transaction

from wise_tally.domain.deals.models import Account, Deal, DealRevision
from wise_tally.domain.org.models import Workspace
from wise_tally.package.cells import CellWriter
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package
from wise_tally.package.tables import STATE_COLUMNS, TABLES, Table
from wise_tally.package.writing import path_of
from wise_tally.pages.setup.imports import journal
from wise_tally.pages.setup.imports.kinds import KINDS, words_of
from wise_tally.pages.setup.imports.prepare import GIVEN_TO_ACCOUNTS, Matching, Prepared, RowFault

NEW, CHANGED, UNCHANGED = "new", "changed", "unchanged"
Identity = tuple[str, ...]


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


def rehearse(kind: str, prepared: Prepared, matching: Matching, now: datetime) -> Rehearsal:
    """Try the good rows; rows with faults of the table's own checks are left out until the rest is accepted."""
    tried, rows = Rehearsal(faults=list(prepared.faults)), prepared.rows
    while rows:
        with tempfile.TemporaryDirectory() as name:
            lines = write_rows(Path(name), kind, replace(prepared, rows=rows), matching)
            try:
                with transaction.atomic():
                    with journal.journalling():
                        read_package(Path(name), now)
                        written = journal.written()
                        tried.effects = _effects(kind, rows, written)
                    accounts = written.get(Account._meta.db_table)
                    tried.accounts = len(accounts.inserted) if accounts and kind != "accounts" else 0
                    transaction.set_rollback(True)
                break
            except PackageRefused as refused:
                found = faults_of_rows(kind, refused, lines, matching)
                tried.more += refused.report.more
        tried.faults += found
        wrong = {fault.row for fault in found}
        good = [row for row in rows if row[0] not in wrong]
        # A fault of the file itself stands in no row.
        rows = good if len(good) < len(rows) else []
    tried.faults.sort(key=lambda fault: fault.row)
    return tried


def _effects(
    kind: str, rows: list[tuple[int, dict[str, str]]], written: dict[str, journal.TableJournal]
) -> dict[int, Effect]:
    """The effect of each row, told from the journal of all that was written."""
    table = TABLES[kind]
    assert table.model is not None
    name = table.model._meta.db_table
    noted = written.get(name, journal.TableJournal([]))
    differing = journal.differing(name, noted)
    if kind == "deals":
        for deal, columns in _moved(written, set(noted.inserted)).items():
            differing[deal] = differing.get(deal, set()) | columns
    numbers = _numbers(table, {*noted.inserted, *differing})
    words = {table.column(name).attribute: words_of(name) for name in KINDS[kind].columns}
    found = {}
    for row, cells in rows:
        number = numbers.get(tuple(cells.get(column, "") for column in table.unique))
        fields = tuple(words[one] for one in words if one in differing.get(number or 0, ()))
        found[row] = Effect(NEW) if number in noted.inserted else Effect(CHANGED if fields else UNCHANGED, fields)
    return found


def _numbers(table: Table, numbers: set[int]) -> dict[Identity, int]:
    """Row numbers by what tells the table's rows apart, as cells."""
    assert table.model is not None
    workspace = Workspace.current()
    writer = CellWriter(get_currency_precision(workspace.currency), workspace.time_zone)
    columns = [table.column(name) for name in table.unique]
    rows = table.model._default_manager.filter(pk__in=numbers).values_list("pk", *map(path_of, columns))
    return {tuple(map(writer.write, columns, values)): number for number, *values in rows}


def _moved(written: dict[str, journal.TableJournal], made: set[int]) -> dict[int, set[str]]:
    """Attributes in which the new revision of a deal that was there differs from the one before."""
    revisions = written.get(DealRevision._meta.db_table, journal.TableJournal([]))
    attributes = [TABLES["deals"].column(name).attribute for name in STATE_COLUMNS]
    deals = set(Deal.objects.filter(revisions__pk__in=revisions.inserted).values_list("pk", flat=True)) - made
    states: dict[int, list[tuple[object, ...]]] = {}
    kept = DealRevision.objects.filter(deal_id__in=deals, void=False).order_by("pk")
    for deal, *state in kept.values_list("deal_id", *attributes):
        states.setdefault(deal, []).append(tuple(state))
    return {
        deal: {name for name, before, after in zip(attributes, *found[-2:], strict=True) if before != after}
        for deal, found in states.items()
    }


def faults_of_rows(kind: str, refused: PackageRefused, lines: dict[int, int], matching: Matching) -> list[RowFault]:
    """Faults of the package as faults of the file's rows and headings."""
    faults = []
    for fault in refused.report.faults:
        row = lines.get(fault.row, 0) if fault.file == f"{kind}.csv" else 0
        faults.append(RowFault(row, matching.columns.get(fault.column, fault.column), fault.wrong, fault.right))
    return faults


def write_rows(folder: Path, kind: str, prepared: Prepared, matching: Matching) -> dict[int, int]:
    """Write the package of the prepared rows; returns the file's row for each line."""
    columns = list(dict.fromkeys(name for _, row in prepared.rows[:1] for name in row)) or list(KINDS[kind].columns)
    lines: dict[int, int] = {}
    with (folder / f"{kind}.csv").open("w", encoding="utf-8", newline="") as file:
        out = csv.writer(file, lineterminator="\n")
        out.writerow(columns)
        line = 2
        for number, row in prepared.rows:
            cells = [row.get(name, "") for name in columns]
            out.writerow(cells)
            lines[line] = number
            line += 1 + sum(cell.count("\n") for cell in cells)
    resources = [{"name": kind, "path": f"{kind}.csv"}]
    if prepared.accounts:
        with (folder / "accounts.csv").open("w", encoding="utf-8", newline="") as file:
            writer = csv.DictWriter(file, ("account_id", "name", *GIVEN_TO_ACCOUNTS))
            writer.writeheader()
            writer.writerows({"account_id": key} | account for key, account in prepared.accounts.items())
        resources.append({"name": "accounts", "path": "accounts.csv"})
    descriptor = {"profile": "tabular-data-package", "name": "import", "resources": resources}
    (folder / "datapackage.json").write_text(json.dumps(descriptor))
    return lines
