"""A journal of everything a transaction writes, so that a whole import can be undone.

Temporary triggers note each row inserted, changed or deleted; the notes become one file. Undoing puts all back, or
nothing: it is refused where a row was changed since, or where later rows refer to one that would go.
"""

import gzip
import json
import zlib
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date, datetime
from itertools import groupby
from pathlib import Path
from typing import Any

from django.db import IntegrityError, connection, transaction

from wise_tally.domain.database import columns_of, last_numbers, notes, noting, numbers_after, texts_of_rows
from wise_tally.domain.formats import as_words, plural
from wise_tally.domain.refusals import WriteConflict
from wise_tally.package.tables import TABLES

WORDS = {table.model._meta.db_table: as_words(name) for name, table in TABLES.items() if table.model is not None}
NAMES = sorted(WORDS)


@contextmanager
def journalling() -> Iterator[dict[str, int]]:
    """Note every change to the package's tables inside; must stand within a transaction. Gives what `written` asks for."""
    before = last_numbers(NAMES)
    with noting(NAMES):
        yield before


@dataclass
class TableJournal:
    """What was done to one table: numbers of rows inserted, old values of those changed and deleted, and how rows were left."""

    columns: list[str] = field(default_factory=list)
    inserted: set[int] = field(default_factory=set)
    before: dict[int, list[Any]] = field(default_factory=dict)
    deleted: dict[int, list[Any]] = field(default_factory=dict)
    left: dict[int, int] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Rows that it covers."""
        return len(self.inserted) + len(self.before) + len(self.deleted)


def written(before: dict[str, int], marked: bool = True) -> defaultdict[str, TableJournal]:
    """The journal so far by table, `before` the last number of each at its beginning; what was added and deleted again is left out.

    Without marks it records what was written, but not whether a row changed since.
    """
    journals: defaultdict[str, TableJournal] = defaultdict(TableJournal)
    for table, op, number, old in notes():
        if number > before[table]:
            continue
        if op == "u":
            journals[table].before.setdefault(number, old)
        else:
            journals[table].deleted[number] = journals[table].before.pop(number, old)
    for table, last in before.items():
        if added := numbers_after(table, last):
            journals[table].inserted = set(added)
    for table, journal in journals.items():
        journal.columns = columns_of(table)
        journal.left = _marks(table, journal) if marked else {}
    return journals


BLOCK, FORM = 1_000, 2
"""Row numbers that share a mark; the form of the file."""


def _marks(table: str, journal: TableJournal) -> dict[int, int]:
    """Marks of the rows inserted and changed as they are now, by block of row numbers; a row that is gone is missing in its mark."""
    ours = journal.inserted | journal.before.keys()
    if not ours:
        return {}
    rows = (row for row in texts_of_rows(table, min(ours), max(ours)) if row[0] in ours)
    blocks = groupby(rows, lambda row: row[0] // BLOCK)
    return {block: zlib.crc32("".join(text for _, text in rows).encode()) for block, rows in blocks}


def differing(table: str, journal: TableJournal) -> dict[int, set[str]]:
    """The columns in which each changed row differs from what it was, by row number."""

    def plain(value: Any) -> Any:
        return value.isoformat() if isinstance(value, date | datetime) else value

    if not journal.before:
        return {}
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT * FROM {table} WHERE id BETWEEN %s AND %s", [min(journal.before), max(journal.before)])
        now = {row[0]: row for row in cursor.fetchall() if row[0] in journal.before}
    return {
        number: {
            name
            for name, old, new in zip(journal.columns, journal.before[number], row, strict=True)
            if old != plain(new)
        }
        for number, row in now.items()
    }


def keep(journals: dict[str, TableJournal], path: Path) -> int:
    """Write the journal to a file; returns the number of rows it covers."""
    content = {
        table: [j.columns, sorted(j.inserted), *(list(part.items()) for part in (j.before, j.deleted, j.left))]
        for table, j in journals.items()
    }
    path.write_bytes(gzip.compress(json.dumps({"form": FORM, "tables": content}).encode(), 1))
    return sum(one.count for one in journals.values())


def read_journal(path: Path) -> dict[str, TableJournal]:
    """Read a journal back; ValueError where an earlier version wrote it, whose marks say nothing now."""
    content = json.loads(gzip.decompress(path.read_bytes()))
    if content.get("form") != FORM:
        raise ValueError("of an earlier version")
    return {
        table: TableJournal(columns, set(inserted), *(dict(map(tuple, part)) for part in parts))
        for table, (columns, inserted, *parts) in content["tables"].items()
    }


def undo(journals: dict[str, TableJournal]) -> None:
    """Put everything back; all or nothing. Raises WriteConflict."""
    try:
        with transaction.atomic():
            for table, journal in journals.items():
                _require_unchanged(table, journal)
            for table, journal in journals.items():
                _put_back(table, journal)
    except IntegrityError as error:
        raise WriteConflict("Later records depend on this import. Delete these first, then undo the import.") from error


def _require_unchanged(table: str, journal: TableJournal) -> None:
    if _marks(table, journal) != journal.left:
        rows = f"{WORDS[table].capitalize()} of the import"
        raise WriteConflict(f"{rows} were changed or deleted later. The import cannot be undone.")


def _put_back(table: str, journal: TableJournal) -> None:
    names = ", ".join(f'"{name}"' for name in journal.columns)
    marks = ", ".join(["%s"] * len(journal.columns))
    assignments = ", ".join(f'"{name}" = %s' for name in journal.columns)
    later = _later_revisions(table, journal)
    if later:
        raise WriteConflict(f"{plural(later, 'imported deal')} changed later, so this import cannot be undone.")
    with connection.cursor() as cursor:
        cursor.executemany(f"DELETE FROM {table} WHERE id = %s", [(number,) for number in journal.inserted])
        cursor.executemany(
            f"UPDATE {table} SET {assignments} WHERE id = %s",
            [(*old, number) for number, old in journal.before.items()],
        )
        cursor.executemany(f"INSERT INTO {table} ({names}) VALUES ({marks})", list(journal.deleted.values()))


def _later_revisions(table: str, journal: TableJournal) -> int:
    """Deals whose history went on after the import: its revisions are not their last any more."""
    if table != "deals_dealrevision" or not journal.inserted:
        return 0
    ours: dict[int, int] = defaultdict(int)
    with connection.cursor() as cursor:
        cursor.execute("SELECT deal_id, MAX(id) FROM deals_dealrevision GROUP BY deal_id")
        last = dict(cursor.fetchall())
        cursor.execute(
            "SELECT id, deal_id FROM deals_dealrevision WHERE id BETWEEN %s AND %s",
            [min(journal.inserted), max(journal.inserted)],
        )
        for number, deal in cursor.fetchall():
            if number in journal.inserted:
                ours[deal] = max(ours[deal], number)
    return sum(last[deal] != number for deal, number in ours.items())
