"""From a folder to parsed columns: descriptor, files, records, cells."""

import csv
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from io import BytesIO, TextIOWrapper
from itertools import islice
from pathlib import Path
from typing import Any, TextIO

from wise_tally.package.cells import CellFault, CellReader
from wise_tally.package.faults import Report
from wise_tally.package.tables import TABLES, Column, Table

CHUNK = 20_000
BAD: Any = CellFault("", "")
csv.field_size_limit(1 << 30)


@dataclass
class Parsed:
    """The rows of one file as columns of kept values; a faulty cell holds BAD. `lines` are where records begin."""

    table: Table
    columns: dict[str, list[Any]] = field(default_factory=dict)
    lines: list[int] = field(default_factory=list)
    absent: dict[str, list[Any]] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.lines)

    def get(self, name: str) -> list[Any]:
        """A column; empty values where the file does not have it."""
        if name in self.columns:
            return self.columns[name]
        if name not in self.absent or len(self.absent[name]) != len(self):
            empty = "" if self.table.column(name).kind in ("text", "name", "word") else None
            self.absent[name] = [empty] * len(self)
        return self.absent[name]


def read_descriptor(folder: Path, report: Report) -> dict[str, Path]:
    """The listed files by table name; faults where the descriptor or a listed file is not there."""
    descriptor = folder / "datapackage.json"
    try:
        content = json.loads(descriptor.read_bytes().decode("utf-8-sig"))
        resources = [(str(item["name"]), item["path"]) for item in content["resources"]]
    except FileNotFoundError:
        report.add("datapackage.json", 0, "", "the file is not there", "a folder with datapackage.json")
        return {}
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        report.add(
            "datapackage.json", 0, "", "the file cannot be read", "a Tabular Data Package descriptor with resources"
        )
        return {}
    files: dict[str, Path] = {}
    for name, listed in resources:
        _take_resource(folder, name, listed, files, report)
    listed_files = {path.name for path in files.values()} | {"datapackage.json", "workspace.json"}
    extra = sorted(p.name for p in folder.iterdir() if p.is_file() and p.name not in listed_files)
    report.notes += [f"{name}: not listed in datapackage.json, skipped" for name in extra]
    return files


def _take_resource(folder: Path, name: str, listed: Any, files: dict[str, Path], report: Report) -> None:
    if not isinstance(listed, str):
        report.add("datapackage.json", 0, name, "the path is not one text", "a path inside the folder")
        return
    path = folder / listed
    try:
        path.resolve()
    except (OSError, RuntimeError, ValueError):
        report.add(listed, 0, "", "the link leads round in a circle", "a file in the folder")
        return
    if Path(listed).is_absolute() or folder.resolve() not in path.resolve().parents:
        report.add(
            "datapackage.json", 0, name, f"the path “{listed}” leads out of the folder", "a path inside the folder"
        )
        return
    table = name if name in TABLES else Path(listed).stem
    if table not in TABLES:
        report.notes.append(f"{listed}: not a table of this package, skipped")
    elif table in files:
        report.add("datapackage.json", 0, name, f"the table {table} is listed twice", "one file a table")
    elif not path.is_file():
        report.add(listed, 0, "", "the file is listed but absent", "the file or a descriptor without it")
    else:
        files[table] = path


def parse_file(path: Path, table: Table, decimals: int, report: Report) -> Parsed:
    """All records of a file as columns; every cell fault is reported."""
    parsed = Parsed(table)
    data = path.read_bytes()
    try:
        data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        row = data[: error.start].count(b"\n") + 1
        report.add(path.name, row, "", "the file is not UTF-8", "UTF-8 text")
        return parsed
    records = _records(TextIOWrapper(BytesIO(data), "utf-8-sig", newline=""), path.name, report)
    header = next(records, (1, []))[1]
    columns = _columns(header, table, path.name, report)
    if columns is None:
        return parsed
    readers = [None if column is None else CellReader(column, decimals) for column in columns]
    for column in columns:
        if column is not None:
            parsed.columns[column.name] = []
    name = path.name
    while chunk := list(islice(records, CHUNK)):
        whole = [(line, cells) for line, cells in chunk if _right_length(line, cells, header, name, report)]
        parsed.lines += [line for line, _ in whole]
        for column, reader, cells in zip(
            columns, readers, zip(*(cells for _, cells in whole), strict=True), strict=False
        ):
            if column is not None and reader is not None:
                _take_cells(parsed, column, list(map(reader.__getitem__, cells)), len(whole), report)
    return parsed


def _records(text: TextIO, file: str, report: Report) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(text, strict=True)
    line = 1
    try:
        for cells in reader:
            # A blank line closes the file or stands between records; it holds no cells.
            if cells:
                yield line, cells
            line = reader.line_num + 1
    except csv.Error as error:
        report.add(file, line, "", f"the record cannot be read as CSV: {error}", "RFC 4180 with closed quotes")


def _columns(header: list[str], table: Table, file: str, report: Report) -> list[Column | None] | None:
    known = {column.name: column for column in table.columns}
    missing = [column.name for column in table.columns if column.required and column.name not in header]
    for name in missing:
        report.add(file, 1, name, "the required column is missing", f"a column named {name}")
    for name in header:
        if name not in known:
            report.notes.append(f"{file}: column “{name}” is not known, skipped")
    for name in {name for name in header if header.count(name) > 1 and name in known}:
        report.add(file, 1, name, "the column appears twice", "each column once")
        missing.append(name)
    return None if missing else [known.get(name) for name in header]


def _right_length(line: int, cells: list[str], header: list[str], file: str, report: Report) -> bool:
    if len(cells) == len(header):
        return True
    report.add(file, line, "", f"the row has {len(cells)} fields", f"{len(header)} fields as in the header")
    return False


def _take_cells(parsed: Parsed, column: Column, values: list[Any], count: int, report: Report) -> None:
    start = len(parsed.lines) - count
    for index, value in enumerate(values):
        if isinstance(value, CellFault):
            report.add(parsed.table.path, parsed.lines[start + index], column.name, value.wrong, value.right)
            values[index] = BAD
    parsed.columns[column.name] += values
