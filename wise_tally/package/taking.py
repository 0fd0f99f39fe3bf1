"""Writing a checked package: what stands beside the database is taken in, small tables are compared row by row."""

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any, cast

from django.db import connection, models

from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.process.categories import ensure_categories
from wise_tally.package.parse import Parsed
from wise_tally.package.staging import Staging, default_of, field_of, quoted
from wise_tally.package.tables import STATE_COLUMNS, TABLES, Column, Table

NOT_LOADED = ("lost_from_stage_id", *STATE_COLUMNS, "closed_at")
FIRST = "first_revisions"


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return int(value.timestamp())
    return value.toordinal() if hasattr(value, "toordinal") else value


def _where(values: Sequence[Any], flags: Sequence[bool]) -> list[Any]:
    return [value for value, is_wanted in zip(values, flags, strict=True) if is_wanted]


def _present(parsed: Parsed) -> list[Column]:
    hidden = NOT_LOADED if parsed.table.name == "deals" else ()
    return [c for c in parsed.table.columns if c.name in parsed.columns and not c.late and c.name not in hidden]


class Taking:
    """A package on its way into the database; `keys` are identifier → row number by table, read when first needed."""

    def __init__(self, package: dict[str, Parsed], staged: Staging) -> None:
        self.package, self.staged = package, staged
        self.keys: dict[str, dict[str, int]] = {}
        for name, parsed in package.items():
            if name == "deals":
                self._set_down_deals(parsed)
            elif self._is_staged(parsed.table):
                self._set_down(parsed)
        staged.finish()

    @staticmethod
    def _is_staged(table: Table) -> bool:
        return table.of_deal or table.has_key

    def _set_down(self, parsed: Parsed, **also: Any) -> None:
        model = parsed.table.model
        assert model is not None
        self.staged.add(parsed.table.name, model, {c: parsed.columns[c.name] for c in _present(parsed)}, **also)

    def _set_down_deals(self, deals: Parsed) -> None:
        """Deals, and of those without revisions the one that their state makes."""
        revisions = self.package.get("deal_revisions")
        with_history = set(revisions.get("deal_id")) if revisions else set()
        short = [key not in with_history for key in deals.get("deal_id")]
        lost_from = deals.table.column("lost_from_stage_id")
        columns = {column: deals.columns[column.name] for column in _present(deals)}
        columns[lost_from] = [
            value if is_short else None for value, is_short in zip(deals.get(lost_from.name), short, strict=True)
        ]
        self.staged.add("deals", Deal, columns, short_form=short)
        table = TABLES["deal_revisions"]
        states = {table.column(name): _where(deals.get(name), short) for name in ("deal_id", *STATE_COLUMNS)}
        moments = [
            closed or created for closed, created in zip(deals.get("closed_at"), deals.get("created_at"), strict=True)
        ]
        self.staged.add(FIRST, DealRevision, states, effective_at=_where(moments, short))

    def begin(self) -> None:
        """What comes before all rows: categories, and what deals that are there had, in whose place the package's rows come."""
        ensure_categories("categories" in self.package)
        self.staged.find("deals")
        if "deals" in self.package:
            self.staged.mark_new("deals")
        if Deal.objects.exists():
            for parsed in self.package.values():
                if parsed.table.of_deal:
                    self._clear(parsed)

    def _clear(self, parsed: Parsed) -> None:
        """Rows of a deal in the package replace the old ones; a deal without revisions in it keeps those it has."""
        name, model = parsed.table.name, parsed.table.model
        assert model is not None
        there = f"SELECT n.number FROM named_deals n WHERE n.place IN (SELECT s.deal_id FROM staged_{name} s)"
        with connection.cursor() as cursor:
            if name == "deal_revisions":
                cursor.execute(f"UPDATE deals_deal SET short_form = FALSE, lost_from_id = NULL WHERE id IN ({there})")
            elif "deals" in self.package:
                there += " UNION SELECT d.id FROM deals_deal d JOIN staged_deals s ON s.key = d.key"
            cursor.execute(f"DELETE FROM {quoted(model._meta.db_table)} WHERE deal_id IN ({there})")

    def write(self, name: str, now: datetime) -> None:
        """Write the rows of a table; those that they refer to are there."""
        parsed = self.package[name]
        if name == "settings":
            _write_settings(parsed)
        elif parsed.table.more_of:
            self._add_columns(parsed)
        elif parsed.table.of_deal:
            self.staged.insert(name)
        elif self._is_staged(parsed.table):
            if name != "deals":
                self.staged.mark_new(name)
            self.staged.update(name, [column.attribute for column in _present(parsed)[1:]])
            self.staged.insert(name, "s.is_new")
            if name == "deals":
                self._write_first_revisions(parsed, now)
        else:
            self._upsert(parsed)

    def _write_first_revisions(self, deals: Parsed, now: datetime) -> None:
        """Of new deals without history the first revision; of deals that were there a further one where their state changed."""
        self.staged.insert(FIRST, "r_deal_id.key IN (SELECT key FROM staged_deals WHERE is_new)")
        with connection.cursor() as cursor:
            cursor.execute("SELECT place FROM staged_deals WHERE short_form AND NOT is_new ORDER BY place")
            there = [
                position - 1 for (position,) in cursor.fetchall() if deals.get("stage_id")[position - 1] is not None
            ]
        if not there:
            return
        table = TABLES["deal_revisions"]
        names = [table.column(name).attribute for name in STATE_COLUMNS]
        states = [
            self._values(table.column(name), [deals.get(name)[position] for position in there])
            for name in STATE_COLUMNS
        ]
        numbers = self._values(table.column("deal_id"), [deals.get("deal_id")[position] for position in there])
        current = _current_states(set(numbers), names)
        moment = int(now.astimezone(UTC).timestamp())
        changed = [
            (number, max(moment, current[number][0]), *state)
            for number, *state in zip(numbers, *states, strict=True)
            if number in current and current[number][1:] != tuple(state)
        ]
        update_rows(Deal, ["short_form", "lost_from_id"], [(number, (False, None)) for number, *_ in changed])
        insert_rows(DealRevision, ["deal_id", "effective_at", *names], changed)

    def _values(self, column: Column, values: Sequence[Any]) -> list[Any]:
        """Values as they are kept: references as row numbers."""
        if column.kind != "ref":
            return list(values)
        numbers = self.number_of(column.target)
        return [None if value is None else numbers[value] for value in values]

    def _upsert(self, parsed: Parsed) -> None:
        """Rows identified by several columns: new ones added, known ones changed."""
        table, model, present = parsed.table, parsed.table.model, _present(parsed)
        assert model is not None
        attributes = [column.attribute for column in present]
        unique = [table.column(name).attribute for name in table.unique]
        known = {tuple(map(_plain, row[:-1])): row[-1] for row in model._default_manager.values_list(*unique, "pk")}
        places = [attributes.index(name) if name in attributes else None for name in unique]
        absent = [_empty_of(model, name) for name in unique]
        new, there = [], []
        for row in zip(*(self._values(c, parsed.columns[c.name]) for c in present), strict=True):
            number = known.get(tuple(e if p is None else row[p] for e, p in zip(absent, places, strict=True)))
            if number is None:
                new.append(row)
            else:
                there.append((number, row))
        insert_rows(model, attributes, new)
        update_rows(model, attributes, there)

    def _add_columns(self, parsed: Parsed) -> None:
        """More columns of rows that another table brings; a row's absent columns stay as they are."""
        model = parsed.table.model
        assert model is not None
        numbers, present = self.number_of(parsed.table.more_of), _present(parsed)[1:]
        rows = zip(*(self._values(column, parsed.columns[column.name]) for column in present), strict=True)
        owners = parsed.get(parsed.table.columns[0].name)
        given = ((numbers[key], row) for key, row in zip(owners, rows, strict=True))
        update_rows(model, [column.attribute for column in present], given)

    def fill_in_late(self) -> None:
        """References to rows of the same or a later table: parents and managers."""
        for parsed in self.package.values():
            for column in parsed.table.columns:
                if column.late and column.name in parsed.columns:
                    own = self.number_of(parsed.table.name)
                    values = self._values(column, parsed.columns[column.name])
                    pairs = zip(parsed.get(parsed.table.columns[0].name), values, strict=True)
                    assert parsed.table.model is not None
                    update_rows(parsed.table.model, [column.attribute], [(own[key], (value,)) for key, value in pairs])

    def number_of(self, table: str) -> dict[str, int]:
        """Identifier → row number of a table, read once."""
        if table not in self.keys:
            model = TABLES[table].model
            assert model is not None
            self.keys[table] = dict(model._default_manager.values_list("key", "pk"))
        return self.keys[table]


def _write_settings(parsed: Parsed) -> None:
    workspace = Workspace.current()
    for key, value in zip(parsed.get("key"), parsed.get("value"), strict=True):
        setattr(workspace, key, int(value) if key == "fiscal_year_start_month" else value)
    if len(parsed):
        workspace.save()


def _current_states(wanted: set[int], attributes: Sequence[str]) -> dict[int, tuple[Any, ...]]:
    """Moment and state of the last revision of each deal."""
    rows = DealRevision.objects.filter(void=False).order_by("id").values_list("deal_id", "effective_at", *attributes)
    return {deal: tuple(map(_plain, state)) for deal, *state in rows if deal in wanted}


def _empty_of(model: type[models.Model], attribute: str) -> Any:
    return None if field_of(model, attribute).null else ""


def insert_rows(model: type[models.Model], attributes: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Insert rows of kept values; other columns get their defaults, None a column's default where it takes none."""
    fields = {name: field_of(model, name) for name in attributes}
    rest = [f for f in model._meta.concrete_fields if not f.primary_key and f not in fields.values()]
    names = [f.column for f in (*fields.values(), *rest)]
    defaults = [default_of(field) for field in rest]
    filled = {index: default_of(f) for index, f in enumerate(fields.values()) if not f.null}
    listed = ", ".join(quoted(name) for name in names)
    marks = ", ".join(["%s"] * len(names))
    statement = f"INSERT INTO {quoted(model._meta.db_table)} ({listed}) VALUES ({marks})"

    def complete() -> Iterable[list[Any]]:
        for row in rows:
            values = list(row)
            for index, default in filled.items():
                if values[index] is None:
                    values[index] = default
            yield values + defaults

    with connection.cursor() as cursor:
        cursor.executemany(statement, cast(Any, complete()))


def update_rows(
    model: type[models.Model], attributes: Sequence[str], rows: Iterable[tuple[int, Sequence[Any]]]
) -> None:
    """Update rows by row number."""
    if not attributes:
        return
    fields = [field_of(model, name) for name in attributes]
    assignments = ", ".join(f"{quoted(f.column)} = %s" for f in fields)
    pk = model._meta.pk
    assert pk is not None
    statement = f"UPDATE {quoted(model._meta.db_table)} SET {assignments} WHERE {pk.column} = %s"
    with connection.cursor() as cursor:
        values = (
            [*(default_of(f) if v is None else v for f, v in zip(fields, row, strict=True)), number]
            for number, row in rows
        )
        cursor.executemany(statement, cast(Any, values))
