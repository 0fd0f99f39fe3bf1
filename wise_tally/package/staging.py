"""Rows set down beside the database while others write, so that taking them in is one statement a table.

A reference stands there as the place of its identifier among those of its table: which row has the identifier is looked up when
the rows are taken in.
"""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, cast

from django.db import connection, models

from wise_tally.domain.database import one_batch
from wise_tally.package.faults import PackageRefused, Report
from wise_tally.package.tables import TABLES, Column

Fields = dict[str, "models.Field[Any, Any]"]


def field_of(model: type[models.Model], attribute: str) -> "models.Field[Any, Any]":
    """The field of that name or that keeps its row number under it."""
    return next(f for f in model._meta.concrete_fields if attribute in (f.attname, f.name))


def default_of(field: "models.Field[Any, Any]") -> Any:
    """What a row gets that does not have the field."""
    if field.has_default() and not field.null:
        return field.get_default()
    if field.null or not isinstance(field, models.BooleanField | models.CharField | models.TextField):
        return None
    return False if isinstance(field, models.BooleanField) else ""


def quoted(name: str | None) -> str:
    """A table or column as written in a statement."""
    return connection.ops.quote_name(str(name))


class Staging:
    """Temporary tables `staged_…` of rows, with their `place` from 1, and `named_…` of the identifiers that they refer to."""

    def __init__(self) -> None:
        self.places: dict[str, dict[str, int]] = {}
        self.targets: dict[str, dict[str, str]] = {}
        self.models: dict[str, type[models.Model]] = {}
        self.fields: dict[str, Fields] = {}
        self._known: set[str] = set()

    def add(self, name: str, model: type[models.Model], columns: Mapping[Column, Sequence[Any]], **also: Any) -> None:
        """Set rows down: values by column of the package, `also` by attribute of the model."""
        fields: Fields = {}
        values: list[Sequence[Any]] = []
        targets: dict[str, str] = {}
        for column, given in columns.items():
            field = fields[column.attribute] = field_of(model, column.attribute)
            if column.kind == "ref":
                targets[column.attribute] = column.target
                values.append(self._referred(column.target, given))
            elif not field.null and None in given:
                values.append([default_of(field) if value is None else value for value in given])
            else:
                values.append(given)
        fields |= {attribute: field_of(model, attribute) for attribute in also}
        values += also.values()
        self.models[name], self.fields[name], self.targets[name] = model, fields, targets
        listed = ", ".join(f"{quoted(f.column)} {f.db_type(connection)}" for f in fields.values())
        with connection.cursor() as cursor:
            cursor.execute(f"CREATE TEMP TABLE staged_{name} (place INTEGER PRIMARY KEY, is_new boolean, {listed})")
        names = ", ".join(quoted(f.column) for f in fields.values())
        marks = ", ".join(["%s"] * len(fields))
        statement = f"INSERT INTO staged_{name} (place, {names}) VALUES (%s, {marks})"
        rows = zip(range(1, len(values[0]) + 1), *values, strict=True)
        with one_batch(), connection.cursor() as cursor:
            cursor.executemany(statement, cast(Any, rows))

    def _referred(self, target: str, values: Sequence[Any]) -> list[int | None]:
        places = self.places.setdefault(target, {})
        return [None if value is None else places.setdefault(value, len(places) + 1) for value in values]

    def finish(self) -> None:
        """Set the identifiers down that rows refer to, once all rows are there."""
        for target, places in self.places.items():
            with one_batch(), connection.cursor() as cursor:
                cursor.execute(f"CREATE TEMP TABLE named_{target} (place INTEGER PRIMARY KEY, key text, number bigint)")
                cursor.executemany(
                    f"INSERT INTO named_{target} (place, key) VALUES (%s, %s)", [(p, key) for key, p in places.items()]
                )

    def drop(self) -> None:
        """Take the temporary tables away."""
        with connection.cursor() as cursor:
            for table in [f"staged_{name}" for name in self.models] + [f"named_{name}" for name in self.places]:
                cursor.execute(f"DROP TABLE IF EXISTS {table}")

    def mark_new(self, name: str) -> None:
        """Say of each row that has an identifier whether the database does not have it."""
        table = quoted(self.models[name]._meta.db_table)
        with connection.cursor() as cursor:
            there = f"EXISTS (SELECT 1 FROM {table} t WHERE t.key = staged_{name}.key)"
            cursor.execute(f"UPDATE staged_{name} SET is_new = NOT {there}")

    def insert(self, name: str, where: str = "TRUE") -> None:
        """Take rows in, in their order; columns that they do not have get their defaults."""
        model, fields = self.models[name], self.fields[name]
        rest = [f for f in model._meta.concrete_fields if not f.primary_key and f not in fields.values()]
        values, joins = self._values(name)
        into = ", ".join(quoted(f.column) for f in (*fields.values(), *rest))
        taken = ", ".join([*values.values(), *["%s"] * len(rest)])
        with connection.cursor() as cursor:
            cursor.execute(
                f"INSERT INTO {quoted(model._meta.db_table)} ({into}) SELECT {taken} FROM staged_{name} s{joins}"
                f" WHERE {where} ORDER BY s.place",
                [default_of(field) for field in rest],
            )

    def update(self, name: str, attributes: Sequence[str]) -> None:
        """Give rows that were there what the rows of the same identifier have."""
        values, joins = self._values(name)
        table, fields = quoted(self.models[name]._meta.db_table), self.fields[name]
        given = ", ".join(f"{quoted(fields[a].column)} = {values[a]}" for a in attributes)
        with connection.cursor() as cursor:
            cursor.execute(
                f"UPDATE {table} SET {given} FROM staged_{name} s{joins} WHERE s.key = {table}.key AND NOT s.is_new"
            )

    def _values(self, name: str) -> tuple[dict[str, str], str]:
        """How each value is read from the staged rows `s`, by attribute, and what is joined to read references."""
        values, joins = {}, ""
        for attribute, field in self.fields[name].items():
            values[attribute] = f"s.{quoted(field.column)}"
            if target := self.targets[name].get(attribute):
                if target not in self._known:
                    self._find_all(target)
                other = f"r_{attribute}"
                joins += f" LEFT JOIN named_{target} {other} ON {other}.place = {values[attribute]}"
                values[attribute] = f"{other}.number"
        return values, joins

    def _find_all(self, target: str) -> None:
        """The same once all rows of the table are there; PackageRefused where one was deleted since the package was checked."""
        self.find(target)
        self._known.add(target)
        with connection.cursor() as cursor:
            cursor.execute(f"SELECT key FROM named_{target} WHERE number IS NULL ORDER BY place")
            if gone := cursor.fetchone():
                report = Report()
                report.add(TABLES[target].path, 0, "", f"“{gone[0]}” was deleted meanwhile", "a row that is there")
                raise PackageRefused(report)

    def find(self, target: str) -> None:
        """Look up which rows have the identifiers of a table by now; for rows that are taken in that is done by itself, once."""
        if target not in self.places:
            return
        model = TABLES[target].model
        assert model is not None
        table = quoted(model._meta.db_table)
        with connection.cursor() as cursor:
            cursor.execute(
                f"UPDATE named_{target} SET number = (SELECT t.id FROM {table} t WHERE t.key = named_{target}.key)"
            )


@contextmanager
def staging() -> Iterator[Staging]:
    """Temporary tables to set rows down in, that are gone afterwards."""
    made = Staging()
    try:
        yield made
    finally:
        made.drop()
