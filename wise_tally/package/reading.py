"""Reading a package: parse, check, then write everything or nothing."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, cast

from babel.numbers import get_currency_precision
from django.db import connection, models, transaction

from wise_tally.domain.database import known_references
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.book_number import old_rows_changed, present_number
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.process.categories import ensure_categories
from wise_tally.package.checker import Checker
from wise_tally.package.checks import CHECKS, known_currency
from wise_tally.package.faults import PackageRefused, Report
from wise_tally.package.parse import Parsed, parse_file, read_descriptor
from wise_tally.package.staging import replace_rows, staged
from wise_tally.package.tables import STATE_COLUMNS, TABLES, Column, Table
from wise_tally.package.workspace_file import read_file, take_file

Keys = dict[str, dict[str, int]]
Step = Callable[[str], None]
NOT_LOADED = ("lost_from_stage_id", *STATE_COLUMNS, "closed_at")


def read_package(folder: Path, now: datetime, step: Step = lambda name: None) -> Report:
    """Take a package into the database: all of it, or, with faults, nothing (PackageRefused).

    `now` is the moment given to revisions of known deals that come changed and without revisions. `step` hears
    of each part of the work as it begins.
    """
    return check_package(folder, step).take(now, step)


def check_package(folder: Path, step: Step = lambda name: None) -> "CheckedPackage":
    """A package read and found without faults against the database as it is, while others go on writing; else PackageRefused."""
    report, number = Report(), present_number().number
    step("reading")
    package = _parse_all(folder, report)
    step("checking")
    return CheckedPackage(folder, package, report, _check(folder, package, report), number)


@dataclass(frozen=True)
class CheckedPackage:
    """A package without faults, `number` the book's number that it was checked against, `rest` what is no table."""

    folder: Path
    package: dict[str, Parsed]
    report: Report
    rest: dict[str, Any] | None
    number: int

    def take(self, now: datetime, step: Step = lambda name: None) -> Report:
        """Write all of it in one transaction. What was written since the check is checked against again (PackageRefused)."""
        package, keys = self.package, cast(Keys, {})
        step("preparing")
        with staged(package), known_references(), transaction.atomic():
            rest = self.rest
            if present_number().number != self.number:
                rest = _check(self.folder, package, Report())
            ensure_categories("categories" in package)
            for name in TABLES:
                if name in package:
                    step(f"writing {name}")
                    _write(package[name], package, keys, now)
                    self.report.rows[name] = len(package[name])
            _fill_in_late(package, keys)
            if rest:
                take_file(rest)
            old_rows_changed()
        return self.report


def _check(folder: Path, package: dict[str, Parsed], report: Report) -> dict[str, Any] | None:
    checker = Checker(package, _decimals(package), report)
    checker.run(CHECKS)
    rest = read_file(folder, checker.keys, report)
    if report.faults:
        raise PackageRefused(report)
    return rest


def _parse_all(folder: Path, report: Report) -> dict[str, Parsed]:
    paths = read_descriptor(folder, report)
    package: dict[str, Parsed] = {}
    if "settings" in paths:
        package["settings"] = parse_file(paths["settings"], TABLES["settings"], 2, report)
    decimals = _decimals(package)
    for name, table in TABLES.items():
        if name in paths and name != "settings":
            package[name] = parse_file(paths[name], table, decimals, report)
    return package


def _decimals(package: dict[str, Parsed]) -> int:
    currency = Workspace.current().currency
    if settings := package.get("settings"):
        given = dict(zip(settings.get("key"), settings.get("value"), strict=True))
        currency = given.get("currency", currency)
    return get_currency_precision(currency) if isinstance(currency, str) and known_currency(currency) else 2


def _write(parsed: Parsed, package: dict[str, Parsed], keys: Keys, now: datetime) -> None:
    name = parsed.table.name
    if name == "settings":
        _write_settings(parsed)
    elif name == "deals":
        _write_deals(parsed, package, keys, now)
    elif parsed.table.more_of:
        _add_columns(parsed, keys)
    elif parsed.table.of_deal:
        _replace_of_deals(parsed, package)
    else:
        _upsert(parsed.table, _values(parsed, keys), _present(parsed), keys)


def _write_settings(parsed: Parsed) -> None:
    workspace = Workspace.current()
    for key, value in zip(parsed.get("key"), parsed.get("value"), strict=True):
        setattr(workspace, key, int(value) if key == "fiscal_year_start_month" else value)
    if len(parsed):
        workspace.save()


def key_map(table: str, keys: Keys) -> dict[str, int]:
    """Identifier → row number of a table, read once and kept up to date."""
    if table not in keys:
        model = TABLES[table].model
        assert model is not None
        keys[table] = dict(model._default_manager.values_list("key", "pk"))
    return keys[table]


def _present(parsed: Parsed) -> list[Column]:
    hidden = NOT_LOADED if parsed.table.name == "deals" else ()
    return [c for c in parsed.table.columns if c.name in parsed.columns and not c.late and c.name not in hidden]


def _values(parsed: Parsed, keys: Keys) -> list[list[Any]]:
    """The present columns as kept values, references turned into row numbers."""
    columns = []
    for column in _present(parsed):
        values = parsed.columns[column.name]
        if column.kind == "ref":
            target = key_map(column.target, keys)
            values = [None if value is None else target[value] for value in values]
        columns.append(values)
    return columns


def _upsert(table: Table, columns: list[list[Any]], present: list[Column], keys: Keys) -> None:
    model = table.model
    assert model is not None
    attributes = [column.attribute for column in present]
    has_key = table.columns[0].kind == "id"
    unique = ["key"] if has_key else [table.column(name).attribute for name in table.unique]
    if has_key:
        existing: dict[Any, int] = {(key,): pk for key, pk in key_map(table.name, keys).items()}
    else:
        existing = {tuple(map(_plain, row[:-1])): row[-1] for row in model._default_manager.values_list(*unique, "pk")}
    places = [attributes.index(name) if name in attributes else None for name in unique]
    new, known = [], []
    for row in zip(*columns, strict=True):
        identity = tuple(
            _empty_of(model, name) if p is None else row[p] for name, p in zip(unique, places, strict=True)
        )
        pk = existing.get(identity)
        if pk is None:
            new.append(row)
        else:
            known.append((pk, row))
    insert_rows(model, attributes, new)
    update_rows(model, attributes, known)
    if has_key and new:
        keys.pop(table.name)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return int(value.timestamp())
    return value.toordinal() if hasattr(value, "toordinal") else value


def _empty_of(model: type[models.Model], attribute: str) -> Any:
    field = _field(model, attribute)
    return None if field.null else ""


def _field(model: type[models.Model], attribute: str) -> "models.Field[Any, Any]":
    return next(f for f in model._meta.concrete_fields if attribute in (f.attname, f.name))


def _default(field: "models.Field[Any, Any]") -> Any:
    if field.has_default() and not field.null:
        return field.get_default()
    if field.null or not isinstance(field, models.BooleanField | models.CharField | models.TextField):
        return None
    return False if isinstance(field, models.BooleanField) else ""


def insert_rows(model: type[models.Model], attributes: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Insert rows of kept values; other columns get their defaults, None a column's default where it takes none."""
    fields = {name: _field(model, name) for name in attributes}
    rest = [f for f in model._meta.concrete_fields if not f.primary_key and f not in fields.values()]
    names = [f.column for f in (*fields.values(), *rest)]
    defaults = [_default(field) for field in rest]
    filled = {place: _default(f) for place, f in enumerate(fields.values()) if not f.null}
    quoted = ", ".join(connection.ops.quote_name(str(name)) for name in names)
    marks = ", ".join(["%s"] * len(names))
    statement = f"INSERT INTO {connection.ops.quote_name(model._meta.db_table)} ({quoted}) VALUES ({marks})"

    def complete() -> Iterable[list[Any]]:
        for row in rows:
            values = list(row)
            for place, default in filled.items():
                if values[place] is None:
                    values[place] = default
            yield values + defaults

    with connection.cursor() as cursor:
        cursor.executemany(statement, cast(Any, complete()))


def update_rows(
    model: type[models.Model], attributes: Sequence[str], rows: Iterable[tuple[int, Sequence[Any]]]
) -> None:
    """Update rows by row number."""
    if not attributes:
        return
    fields = [_field(model, name) for name in attributes]
    assignments = ", ".join(f"{connection.ops.quote_name(str(f.column))} = %s" for f in fields)
    pk = model._meta.pk
    assert pk is not None
    statement = f"UPDATE {connection.ops.quote_name(model._meta.db_table)} SET {assignments} WHERE {pk.column} = %s"
    with connection.cursor() as cursor:
        values = (
            [*(_default(f) if v is None else v for f, v in zip(fields, row, strict=True)), number]
            for number, row in rows
        )
        cursor.executemany(statement, cast(Any, values))


def _write_deals(parsed: Parsed, package: dict[str, Parsed], keys: Keys, now: datetime) -> None:
    there = dict(key_map("deals", keys))
    _upsert(parsed.table, _values(parsed, keys), _present(parsed), keys)
    with_history = set(package["deal_revisions"].get("deal_id")) if "deal_revisions" in package else set()
    states = _states(parsed, keys)
    current = _current_states([there[k] for k in parsed.get("deal_id") if k in there and k not in with_history])
    stages, numbers = key_map("stages", keys), key_map("deals", keys)
    flags: list[tuple[int, tuple[bool, int | None]]] = []
    revisions: list[tuple[Any, ...]] = []
    for place, key in enumerate(parsed.get("deal_id")):
        number = numbers[key]
        if key in with_history:
            # A new one has its history from the start.
            if key in there:
                flags.append((number, (False, None)))
            continue
        state, empty = states[place], parsed.get("stage_id")[place] is None
        moment = parsed.get("closed_at")[place] or parsed.get("created_at")[place]
        if key not in there:
            lost_from = parsed.get("lost_from_stage_id")[place]
            flags.append((number, (True, stages.get(lost_from))))
            revisions.append((number, moment, *state))
        elif not empty and (held := current.get(number)) and held[1:] != state:
            flags.append((number, (False, None)))
            revisions.append((number, max(int(now.astimezone(UTC).timestamp()), held[0]), *state))
    update_rows(Deal, ["short_form", "lost_from_id"], flags)
    insert_rows(DealRevision, ["deal_id", "effective_at", *_state_attributes()], revisions)


def _state_attributes() -> list[str]:
    return [TABLES["deal_revisions"].column(name).attribute for name in STATE_COLUMNS]


def _states(parsed: Parsed, keys: Keys) -> list[tuple[Any, ...]]:
    columns = []
    for name in STATE_COLUMNS:
        column, values = parsed.table.column(name), parsed.get(name)
        if column.kind == "ref":
            target = key_map(column.target, keys)
            values = [target.get(value) for value in values]
        columns.append(values)
    return list(zip(*columns, strict=True))


def _current_states(numbers: list[int]) -> dict[int, tuple[Any, ...]]:
    """Moment and state of the last revision of each deal."""
    wanted = set(numbers)
    found: dict[int, tuple[Any, ...]] = {}
    if wanted:
        rows = DealRevision.objects.filter(void=False).order_by("id")
        for deal, *state in rows.values_list("deal_id", "effective_at", *_state_attributes()):
            if deal in wanted:
                found[deal] = tuple(map(_plain, state))
    return found


def _replace_of_deals(parsed: Parsed, package: dict[str, Parsed]) -> None:
    """Rows of a deal in the package replace the old ones; a deal without revisions in it keeps those it has."""
    model = parsed.table.model
    assert model is not None
    also = package["deals"].get("deal_id") if parsed.table.name != "deal_revisions" and "deals" in package else ()
    present = _present(parsed)
    given = {_field(model, column.attribute) for column in present if _field(model, column.attribute).null}
    defaults = {str(f.column): _default(f) for f in model._meta.concrete_fields if not f.primary_key and f not in given}
    # A reference is there: its table was checked.
    for column in present:
        if column.kind == "ref":
            defaults.pop(str(_field(model, column.attribute).column), None)
    replace_rows(parsed, present, also, defaults)


def _add_columns(parsed: Parsed, keys: Keys) -> None:
    """More columns of rows that another table brings; a row's absent columns stay as they are."""
    model = parsed.table.model
    assert model is not None
    numbers = key_map(parsed.table.more_of, keys)
    present = _present(parsed)[1:]
    rows = zip(*_values(parsed, keys)[1:], strict=True)
    owners = parsed.get(parsed.table.columns[0].name)
    update_rows(
        model,
        [column.attribute for column in present],
        ((numbers[key], row) for key, row in zip(owners, rows, strict=True)),
    )


def _fill_in_late(package: dict[str, Parsed], keys: Keys) -> None:
    """References to rows of the same or a later table: parents and managers."""
    for parsed in package.values():
        for column in parsed.table.columns:
            if column.late and column.name in parsed.columns:
                own, target = key_map(parsed.table.name, keys), key_map(column.target, keys)
                pairs = zip(parsed.get(parsed.table.columns[0].name), parsed.columns[column.name], strict=True)
                assert parsed.table.model is not None
                rows = [(own[key], (None if value is None else target[value],)) for key, value in pairs]
                update_rows(parsed.table.model, [column.attribute], rows)
