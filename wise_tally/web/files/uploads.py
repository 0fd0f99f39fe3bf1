"""Uploaded tables: CSV and XLSX become rows of text; what cannot be read is refused with what is accepted."""

import csv
import io
import re
import zipfile
from collections import Counter
from dataclasses import dataclass
from itertools import islice

from django.core.files.uploadedfile import UploadedFile

from wise_tally.domain.formats import plural
from wise_tally.web.files.workbook import WorkbookRefused, rows_of

MOST_BYTES = 50_000_000
MOST_UNPACKED = 50_000_000
# A table begins within so many lines.
MOST_TITLES = 20
# What divides the cells is guessed from so many characters and rows.
GUESSED_FROM, GUESSED_ROWS = 100_000, 50
LONGEST_LINE = 10_000
NUMBER = re.compile(r"[-+]?[\d.,\s]+")


class UploadRefused(Exception):
    """The file cannot be read as a table."""


@dataclass(frozen=True)
class UploadedTable:
    """A header and rows of text, each with the line or row of the file on which it begins."""

    header: list[str]
    rows: list[tuple[int, list[str]]]
    note: str = ""

    def column(self, name: str) -> int:
        """Place of a heading."""
        return self.header.index(name)


def read_upload(file: UploadedFile | None) -> UploadedTable:
    """The table of an uploaded CSV or XLSX file; raises UploadRefused."""
    if file is None or not file.name:
        raise UploadRefused("Choose a CSV or XLSX file.")
    if (file.size or 0) > MOST_BYTES:
        size = (file.size or 0) / 1e6
        raise UploadRefused(f"The file has {size:.0f} MB; the limit is {MOST_BYTES // 1_000_000} MB. Split it.")
    return read_table(file.name, file.read())


def read_table(name: str, content: bytes) -> UploadedTable:
    """The table of a file's content; the ending of the name decides the format."""
    ending = name.rsplit(".", 1)[-1].lower()
    if ending == "xlsx":
        return _xlsx(content)
    if ending in ("csv", "txt", "tsv"):
        return _csv(content)
    raise UploadRefused(f"“{name[:80]}” is not a CSV or XLSX file. Choose another file.")


def _csv(content: bytes) -> UploadedTable:
    if content[:2] == b"PK":
        raise UploadRefused("This file is a workbook with the ending .csv. Rename it to .xlsx or save it as CSV.")
    text, note = _decoded(content)
    if "\0" in text:
        raise UploadRefused("The file is not a text file. Save it as CSV (UTF-8).")
    delimiter = max(",;\t|", key=lambda sign: _fits(text, sign))
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    rows: list[tuple[int, list[str]]] = []
    begins = 1
    try:
        for cells in reader:
            if any(cell.strip() for cell in cells):
                rows.append((begins, cells))
            begins = reader.line_num + 1
    except csv.Error as error:
        raise UploadRefused(
            f"Line {reader.line_num} cannot be read as CSV ({error}). Check the quotes in this line."
        ) from error
    return _table(rows, note)


def pasted_rows(text: str) -> list[tuple[int, list[str]]]:
    """Typed or pasted lines as cells, each with its line; tab, semicolon or comma divide them, as the lines speak for."""
    delimiter = max(",;\t", key=lambda sign: _fits(text, sign))
    lines = (
        (number, next(csv.reader([line[:LONGEST_LINE]], delimiter=delimiter)))
        for number, line in enumerate(text.splitlines(), 1)
        if line.strip()
    )
    return [(number, cells) for number, cells in lines if any(cell.strip() for cell in cells)]


def _fits(text: str, delimiter: str) -> int:
    """How well a sign divides the first lines: rows of the most frequent width, each with its divisions."""
    lines = io.StringIO(text[:GUESSED_FROM], newline="")
    widths = Counter(len(cells) for cells in islice(csv.reader(lines, delimiter=delimiter), GUESSED_ROWS))
    return max((rows * (width - 1) for width, rows in widths.items()), default=0)


def _decoded(content: bytes) -> tuple[str, str]:
    try:
        if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
            return content.decode("utf-16"), ""
        return content.decode("utf-8-sig"), ""
    except UnicodeDecodeError:
        text = content.decode("cp1252", errors="replace")
        return text, "The file is not UTF-8 and was read as Windows-1252; look at the accents before you go on."


def _xlsx(content: bytes) -> UploadedTable:
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as package:
            if sum(item.file_size for item in package.infolist()) > MOST_UNPACKED:
                raise UploadRefused("The workbook is too large. Use a smaller one, or save it as CSV.")
            if "[Content_Types].xml" not in package.namelist():
                raise UploadRefused("This file is not a workbook. Upload CSV or XLSX.")
        rows = rows_of(content)
    except WorkbookRefused as refused:
        raise UploadRefused(str(refused)) from refused
    except zipfile.BadZipFile as error:
        raise UploadRefused("The workbook cannot be read. Save it again as XLSX or CSV.") from error
    return _table(rows, "")


def _lines_above(rows: list[tuple[int, list[str]]]) -> int:
    """How many lines stand above the headings: titles fill one cell where headings below them fill several with words."""
    return next((index for index, (_, cells) in enumerate(rows[:MOST_TITLES]) if _are_headings(cells)), 0)


def _are_headings(cells: list[str]) -> bool:
    filled = [cell for cell in cells if cell.strip()]
    words = [cell for cell in filled if not NUMBER.fullmatch(cell.strip())]
    return len(filled) > 1 and 2 * len(words) > len(filled)


def _table(rows: list[tuple[int, list[str]]], note: str) -> UploadedTable:
    if not rows:
        raise UploadRefused("The file is empty. It needs a header row and at least one data row.")
    above = _lines_above(rows)
    if above:
        note = f"{note} {plural(above, 'line')} above the headings left out.".strip()
    rows = rows[above:]
    header = [cell.strip() for cell in rows[0][1]]
    while header and not header[-1]:
        header.pop()
    doubled = sorted({name for name in header if name and header.count(name) > 1})
    if doubled:
        raise UploadRefused(f"The column heading “{doubled[0]}” appears twice. Give each column its own heading.")
    width = len(header)
    return UploadedTable(header, [(n, (cells + [""] * width)[:width]) for n, cells in rows[1:]], note)
