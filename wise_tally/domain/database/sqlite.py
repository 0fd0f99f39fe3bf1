"""SQLite: one file, temporary triggers, and errors told by their words."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

BEGIN_READING = "BEGIN DEFERRED"


def is_busy(error: BaseException) -> bool:
    """Whether the file was locked for longer than one waits."""
    return "locked" in str(error)


def begin_noting(tables: Mapping[str, Sequence[str]]) -> Iterator[str]:
    """Statements after which each row written to a table (with its columns) is noted in the temporary table `journal`."""
    yield "CREATE TEMP TABLE journal (seq INTEGER PRIMARY KEY, tbl TEXT, op TEXT, id INTEGER, old TEXT)"
    for table, names in tables.items():
        old = "json_array(" + ", ".join(f'OLD."{name}"' for name in names) + ")"
        differs = " OR ".join(f'OLD."{name}" IS NOT NEW."{name}"' for name in names)
        note = "BEGIN INSERT INTO journal (tbl, op, id, old) VALUES"
        yield f"CREATE TEMP TRIGGER j_{table}_i AFTER INSERT ON main.{table} {note} ('{table}', 'i', NEW.id, NULL); END"
        yield (
            f"CREATE TEMP TRIGGER j_{table}_u AFTER UPDATE ON main.{table} WHEN {differs}"
            f" {note} ('{table}', 'u', OLD.id, {old}); END"
        )
        yield f"CREATE TEMP TRIGGER j_{table}_d AFTER DELETE ON main.{table} {note} ('{table}', 'd', OLD.id, {old}); END"


def end_noting(tables: Iterable[str]) -> Iterator[str]:
    """Statements after which nothing is noted any more."""
    for table in tables:
        for op in "iud":
            yield f"DROP TRIGGER IF EXISTS temp.j_{table}_{op}"
    yield "DROP TABLE IF EXISTS temp.journal"


def values_of(old: str | None) -> list[Any] | None:
    """A row's values as they were noted."""
    return None if old is None else json.loads(old)
