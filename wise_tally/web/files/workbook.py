"""The first sheet of an uploaded workbook, read in a process of its own: a spoiled one ends that process, not the server."""

import io
import json
import resource
import subprocess
import sys
from datetime import date, datetime
from typing import Any

from python_calamine import CalamineError, CalamineWorkbook

MOST_ROWS = 200_000
MOST_COLUMNS = 300
# The header stands within so many rows.
FIRST_ROWS = 20
# A reader lays a sheet out as one block, so two cells in far corners ask for all between them.
MOST_MEMORY = 1_500_000_000
MOST_SECONDS = 20

Rows = list[tuple[int, list[str]]]


class WorkbookRefused(Exception):
    """The sheet cannot be read, or is larger than what is accepted."""


def rows_of(content: bytes) -> Rows:
    """Rows of text with the numbers that they have in the sheet, as wide as the widest of the first; raises WorkbookRefused."""
    command = [sys.executable, "-I", __file__]
    try:
        done = subprocess.run(command, input=content, capture_output=True, timeout=MOST_SECONDS, check=True)
    except subprocess.SubprocessError as error:
        raise WorkbookRefused("The workbook cannot be read. Save it again as XLSX or CSV.") from error
    answer: dict[str, Any] = json.loads(done.stdout)
    if refused := answer.get("refused"):
        raise WorkbookRefused(refused)
    return [(number, cells) for number, cells in answer["rows"]]


def _read(content: bytes) -> Rows:
    sheet = CalamineWorkbook.from_filelike(io.BytesIO(content)).get_sheet_by_index(0)
    if sheet.total_height > MOST_ROWS:
        raise WorkbookRefused(f"The workbook has more than {MOST_ROWS:,} rows. Split it, or use CSV.")
    rows: Rows = []
    width = 0
    for number, cells in enumerate(sheet.iter_rows(), 1):
        # Titles may stand above the header; nothing to the right of the first rows is read, however wide a later one claims to be.
        texts = [_text(cell) for cell in (cells if len(rows) < FIRST_ROWS else cells[:width])]
        if not any(texts):
            continue
        if len(rows) < FIRST_ROWS:
            width = max(width, *(index for index, text in enumerate(texts, 1) if text))
            if width > MOST_COLUMNS:
                raise WorkbookRefused(f"The header has more than {MOST_COLUMNS} columns. Remove some, or use CSV.")
        rows.append((number, texts[:width]))
    return [(number, texts + [""] * (width - len(texts))) for number, texts in rows]


def _text(value: Any) -> str:
    """A cell as text: whole numbers without a point, dates as ISO 8601."""
    if isinstance(value, datetime):
        is_day = value.time().isoformat() == "00:00:00"
        return value.date().isoformat() if is_day else value.isoformat(timespec="seconds")
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 1e15 else repr(value)
    return str(value)


def main() -> None:
    """Read a workbook from standard input, write its rows or why not as JSON."""
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    try:
        answer: dict[str, Any] = {"rows": _read(sys.stdin.buffer.read())}
    except WorkbookRefused as refused:
        answer = {"refused": str(refused)}
    except CalamineError:
        answer = {"refused": "The workbook cannot be read. Save it again as XLSX or CSV."}
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    main()
