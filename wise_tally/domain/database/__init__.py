"""Where engines of databases differ: SQLite, what the product is made for, and PostgreSQL for several servers.

All else goes through the ORM or is SQL that both understand. On both one transaction writes at a time, from its beginning:
a row with a higher number is newer, which the book rests on.
"""

import json
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from types import ModuleType
from typing import Any

from django.db import DatabaseError, connection
from django.db.models.expressions import RawSQL

from wise_tally.domain.database import postgresql, sqlite
from wise_tally.domain.database.one_writer.turn import WRITERS

Note = tuple[str, str, int, list[Any]]
"""Of a row written: its table, u or d for updated and deleted, its number, and its values before."""


def _engine() -> ModuleType:
    return sqlite if is_file() else postgresql


def is_file() -> bool:
    """Whether the database is a file of its own, which can be copied, put back and mended here."""
    return connection.vendor == "sqlite"


@contextmanager
def one_snapshot() -> Iterator[None]:
    """All reads inside see the same state of the database, without keeping writers out."""
    if connection.in_atomic_block:
        yield
        return
    with connection.cursor() as cursor:
        cursor.execute(_engine().BEGIN_READING)
        try:
            yield
        finally:
            cursor.execute("COMMIT")


@contextmanager
def one_batch() -> Iterator[None]:
    """Rows written inside to temporary tables are written together, and nobody waits for it: no other table may be written to."""
    if not is_file() or connection.in_atomic_block:
        yield
        return
    with one_snapshot():
        yield


@contextmanager
def one_upgrade() -> Iterator[None]:
    """Of several servers that start at once on one database one is inside, the next after it."""
    if is_file():
        yield
        return
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_lock(%s)", [WRITERS])
        try:
            yield
        finally:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [WRITERS])


@contextmanager
def large_write() -> Iterator[None]:
    """For a transaction of a million rows that looked up every row it refers to, and deletes none that others refer to: SQLite
    does not look again for each of them, and gathers more pages before it writes them out.
    """
    if not is_file() or connection.in_atomic_block:
        yield
        return
    with connection.cursor() as cursor:
        for statement in sqlite.BEGIN_LARGE:
            cursor.execute(statement)
        try:
            yield
        finally:
            for statement in sqlite.END_LARGE:
                cursor.execute(statement)


def among(values: Iterable[int] | Iterable[str]) -> RawSQL | tuple[()]:
    """Row numbers or identifiers for a condition such as `pk__in`: one parameter, however many they are."""
    wanted = list(values)
    if not wanted:
        return ()
    return RawSQL(_engine().TEXTS if isinstance(wanted[0], str) else _engine().NUMBERS, [json.dumps(wanted)])


def is_busy(error: BaseException) -> bool:
    """Whether a write gave up because another one was at it."""
    return isinstance(error, DatabaseError) and bool(_engine().is_busy(error))


def columns_of(table: str) -> list[str]:
    """The columns of a table in their order."""
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT * FROM {table} LIMIT 0")
        return [name for name, *_ in cursor.description]


@contextmanager
def noting(tables: Iterable[str]) -> Iterator[None]:
    """Every row of one of the tables that is changed or deleted inside is noted; must stand directly within a transaction, which
    takes the notes along where it is taken back. Which rows are new their numbers tell: see `last_numbers`.
    """
    names = list(tables)
    with connection.cursor() as cursor:
        for statement in _engine().begin_noting({name: columns_of(name) for name in names}):
            cursor.execute(statement)
    yield
    with connection.cursor() as cursor:
        for statement in _engine().end_noting(names):
            cursor.execute(statement)


def last_numbers(tables: Iterable[str]) -> dict[str, int]:
    """The highest number of each table; a row that is written later has a higher one."""
    with connection.cursor() as cursor:
        return {table: _column(cursor, f"SELECT COALESCE(MAX(id), 0) FROM {table}", [])[0] for table in tables}


def numbers_after(table: str, last: int) -> list[int]:
    """The rows of a table that were written after `last` was its highest number."""
    with connection.cursor() as cursor:
        return _column(cursor, f"SELECT id FROM {table} WHERE id > %s ORDER BY id", [last])


def _column(cursor: Any, statement: str, given: list[Any]) -> list[int]:
    cursor.execute(statement, given)
    return [number for (number,) in cursor.fetchall()]


def texts_of_rows(table: str, first: int, last: int) -> list[tuple[int, str]]:
    """Numbers of the rows of a table from `first` to `last`, ascending, each with all its values as one text."""
    with connection.cursor() as cursor:
        text = _engine().text_of_row("one", columns_of(table))
        cursor.execute(f'SELECT id, {text} FROM "{table}" one WHERE id BETWEEN %s AND %s ORDER BY id', [first, last])
        return list(cursor.fetchall())


def notes() -> list[Note]:
    """What was noted so far, in its order."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT tbl, op, id, old FROM journal ORDER BY seq")
        return [(table, op, number, _engine().values_of(old)) for table, op, number, old in cursor.fetchall()]
