"""PostgreSQL: a server of its own, triggers that last as long as their transaction, and errors recognised by their codes."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

BEGIN_READING = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"
LOCK_NOT_AVAILABLE = "55P03"
# The values of a JSON array as rows: whole numbers, texts.
TEXTS = "SELECT value FROM json_array_elements_text(%s::json)"
NUMBERS = "SELECT value::bigint FROM json_array_elements_text(%s::json)"
# Values are noted as an object, whose names stand in the order of the columns.
NOTE = """CREATE FUNCTION pg_temp.note_row() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' OR OLD IS DISTINCT FROM NEW THEN
        INSERT INTO pg_temp.journal (tbl, op, id, old) VALUES (TG_TABLE_NAME, lower(left(TG_OP, 1)), OLD.id, row_to_json(OLD)::text);
    END IF;
    RETURN NULL;
END $$"""


def is_busy(error: BaseException) -> bool:
    """Whether the lock was not had for longer than one waits."""
    return getattr(error.__cause__, "sqlstate", None) == LOCK_NOT_AVAILABLE


def text_of_row(row: str, names: Sequence[str]) -> str:
    """What gives all values of a row as one text."""
    del names
    return f"CAST({row} AS text)"


def begin_noting(tables: Mapping[str, Sequence[str]]) -> Iterator[str]:
    """Statements after which each row of a table (with its columns) that is changed or deleted is noted in the table `journal`."""
    yield "CREATE TEMP TABLE journal (seq bigserial PRIMARY KEY, tbl text, op text, id bigint, old text)"
    yield NOTE
    for table in tables:
        yield (
            f'CREATE TRIGGER j_{table} AFTER UPDATE OR DELETE ON "{table}"'
            " FOR EACH ROW EXECUTE FUNCTION pg_temp.note_row()"
        )


def end_noting(tables: Iterable[str]) -> Iterator[str]:
    """Statements after which nothing is noted any more."""
    for table in tables:
        yield f'DROP TRIGGER IF EXISTS j_{table} ON "{table}"'
    yield "DROP FUNCTION IF EXISTS pg_temp.note_row()"
    yield "DROP TABLE IF EXISTS pg_temp.journal"


def values_of(old: str) -> list[Any]:
    """A row's values as they were noted."""
    return [json.dumps(one) if isinstance(one, list | dict) else one for one in json.loads(old).values()]
