"""SQLite: one file, temporary triggers, and errors recognised by their words."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

BEGIN_READING = "BEGIN DEFERRED"
# The values of a JSON array as rows: whole numbers, texts.
NUMBERS = TEXTS = "SELECT value FROM json_each(%s)"
# Pages kept in memory, in kB below zero, while a million rows are written, and else.
LARGE_CACHE, CACHE = -65_536, -4_096
BEGIN_LARGE = ("PRAGMA foreign_keys = OFF", f"PRAGMA cache_size = {LARGE_CACHE}")
END_LARGE = ("PRAGMA foreign_keys = ON", f"PRAGMA cache_size = {CACHE}")


def is_busy(error: BaseException) -> bool:
    """Whether the file was locked for longer than one waits."""
    return "locked" in str(error)


def text_of_row(row: str, names: Sequence[str]) -> str:
    """What gives all values of a row of these columns as one text, without converting any of them."""
    return "json_array(" + ", ".join(f'{row}."{name}"' for name in names) + ")"


def begin_noting(tables: Mapping[str, Sequence[str]]) -> Iterator[str]:
    """Statements after which each row of a table (with its columns) that is changed or deleted is noted in the table `journal`."""
    yield "CREATE TEMP TABLE journal (seq INTEGER PRIMARY KEY, tbl TEXT, op TEXT, id INTEGER, old TEXT)"
    for table, names in tables.items():
        old = text_of_row("OLD", names)
        differs = " OR ".join(f'OLD."{name}" IS NOT NEW."{name}"' for name in names)
        note = "BEGIN INSERT INTO journal (tbl, op, id, old) VALUES"
        yield (
            f"CREATE TEMP TRIGGER j_{table}_u AFTER UPDATE ON main.{table} WHEN {differs}"
            f" {note} ('{table}', 'u', OLD.id, {old}); END"
        )
        yield f"CREATE TEMP TRIGGER j_{table}_d AFTER DELETE ON main.{table} {note} ('{table}', 'd', OLD.id, {old}); END"


def end_noting(tables: Iterable[str]) -> Iterator[str]:
    """Statements after which nothing is noted any more."""
    for table in tables:
        for op in "ud":
            yield f"DROP TRIGGER IF EXISTS temp.j_{table}_{op}"
    yield "DROP TABLE IF EXISTS temp.journal"


def values_of(old: str) -> list[Any]:
    """A row's values as they were noted."""
    return list(json.loads(old))
