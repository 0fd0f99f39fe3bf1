"""Rows of deals set down beside the database while others write, so that taking them in is one statement a table."""

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, cast

from django.db import connection, models

from wise_tally.domain.database import is_file
from wise_tally.package.parse import Parsed
from wise_tally.package.tables import TABLES, Column

# What columns are kept as, by their kind; all others are whole numbers.
TYPES = dict.fromkeys(("id", "name", "text", "ref", "word"), "text") | {"flag": "boolean"}


def _quoted(name: str | None) -> str:
    return connection.ops.quote_name(str(name))


def _staged(name: str) -> str:
    return _quoted(f"staged_{name}")


@contextmanager
def staged(package: dict[str, Parsed]) -> Iterator[None]:
    """Inside, the rows of every table that belongs to deals stand in a temporary table of their own, references by identifier."""
    names = [name for name, parsed in package.items() if parsed.table.of_deal]
    try:
        for name in names:
            _stage(package[name])
        yield
    finally:
        with connection.cursor() as cursor:
            for name in names:
                cursor.execute(f"DROP TABLE IF EXISTS {_staged(name)}")


def _stage(parsed: Parsed) -> None:
    name, columns = parsed.table.name, parsed.columns
    kinds = {column.name: TYPES.get(column.kind, "bigint") for column in parsed.table.columns}
    places = ", ".join(f"c{place} {kinds.get(column, 'text')}" for place, column in enumerate(columns))
    names = ", ".join(f"c{place}" for place in range(len(columns)))
    counted = "INTEGER PRIMARY KEY" if is_file() else "bigserial PRIMARY KEY"
    with connection.cursor() as cursor:
        cursor.execute(f"CREATE TEMP TABLE {_staged(name)} (place {counted}, {places})")
        marks = ", ".join(["%s"] * len(columns))
        statement = f"INSERT INTO {_staged(name)} ({names}) VALUES ({marks})"
        cursor.executemany(statement, cast(Any, zip(*columns.values(), strict=True)))


def replace_rows(parsed: Parsed, present: Sequence[Column], also: Iterable[str], defaults: dict[str, Any]) -> None:
    """Take the staged rows in, in the place of those that their deals and the deals `also` (identifiers) had.

    `defaults`: what a column gets that the rows do not have, or have empty where it takes no NULL.
    """
    model, name = parsed.table.model, parsed.table.name
    assert model is not None
    of_deal = f"SELECT c{_place(parsed, 'deal_id')} FROM {_staged(name)}"
    with connection.cursor() as cursor:
        cursor.execute("CREATE TEMP TABLE staged_also (key text)")
        cursor.executemany("INSERT INTO staged_also VALUES (%s)", [(key,) for key in also])
        cursor.execute(
            f"DELETE FROM {_quoted(model._meta.db_table)} WHERE deal_id IN (SELECT id FROM deals_deal"
            f" WHERE key IN ({of_deal} UNION SELECT key FROM staged_also))"
        )
        cursor.execute("DROP TABLE staged_also")
        cursor.execute(*_insertion(parsed, present, model, defaults))
        if name == "deal_revisions":
            cursor.execute(f"UPDATE deals_deal SET short_form = FALSE WHERE short_form AND key IN ({of_deal})")


def _place(parsed: Parsed, column: str) -> int:
    return list(parsed.columns).index(column)


def _insertion(
    parsed: Parsed, present: Sequence[Column], model: type[models.Model], defaults: dict[str, Any]
) -> tuple[str, list[Any]]:
    """One INSERT of all staged rows in their order: references joined by identifier, what is absent by its default."""
    into: list[str] = []
    values: list[str] = []
    joins: list[str] = []
    given: list[Any] = []
    left = dict(defaults)
    for column in present:
        value = f"s.c{_place(parsed, column.name)}"
        if column.kind == "ref":
            target = TABLES[column.target].model
            assert target is not None
            other = f"t{len(joins)}"
            joins.append(f" LEFT JOIN {_quoted(target._meta.db_table)} {other} ON {other}.key = {value}")
            value = f"{other}.id"
        field = next(f for f in model._meta.concrete_fields if column.attribute in (f.attname, f.name))
        if str(field.column) in left:
            given.append(left.pop(str(field.column)))
            value = f"COALESCE({value}, %s)"
        into.append(_quoted(field.column))
        values.append(value)
    into += map(_quoted, left)
    values += ["%s"] * len(left)
    statement = (
        f"INSERT INTO {_quoted(model._meta.db_table)} ({', '.join(into)}) SELECT {', '.join(values)}"
        f" FROM {_staged(parsed.table.name)} s{''.join(joins)} ORDER BY s.place"
    )
    return statement, [*given, *left.values()]
