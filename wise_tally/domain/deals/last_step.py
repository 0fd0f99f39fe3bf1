"""What one step wrote about a deal, an account or a lead, undone row by row as long as every row is as the step left it."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import models, transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.activity_actions import About, about_in_audit, require_about, require_record
from wise_tally.domain.deals.models import Account, Activity, Contact, Lead, LeadMove, Note, OwnFieldValue
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.records import ChangedMeanwhile, InUse, as_text, has_belongings, values_of

# The columns of a row as the database keeps them, by name, and under `model` which of these it is; a row refers only to rows
# of models before its own.
Row = dict[str, Any]
MODELS: dict[str, type[models.Model]] = {
    one.__name__: one for one in (Account, Contact, Lead, LeadMove, OwnFieldValue, Activity, Note)
}


def rows_of(about: About | None) -> dict[str, Row]:
    """All that a step may write, by model and number; nothing where a step is about nothing.

    Activities and notes; of an account or a lead also what is kept of it, its contacts or the steps it took, and its own fields.
    """
    if about is None:
        return {}
    rows = _rows(about.activities.all()) | _rows(about.notes.all())
    if isinstance(about, Account | Lead):
        own = OwnFieldValue.objects.filter(subject_key=about.key, field__applies_to=type(about).__name__.lower())
        parts = about.contacts.all() if isinstance(about, Account) else about.moves.all()
        rows |= _rows(type(about)._default_manager.filter(pk=about.pk)) | _rows(own) | _rows(parts)
    return rows


def changed_rows(before: dict[str, Row], after: dict[str, Row]) -> list[tuple[Row | None, Row | None]]:
    """Of the rows before a step and after it those that differ; None where there is no such row."""
    names = sorted({*before, *after}, key=lambda name: list(MODELS).index(name.partition(" ")[0]))
    return [(before.get(name), after.get(name)) for name in names if before.get(name) != after.get(name)]


@transaction.atomic
def undo_step(
    viewer: Viewer, reference: ReferenceData, about: About, rows: Sequence[tuple[Row | None, Row | None]], now: datetime
) -> None:
    """Put the rows of a step back.

    Raises ChangedMeanwhile where one is no longer as the step left it, InUse where something belongs to a new one already,
    PermissionDenied.
    """
    for before, after in rows:
        record = _record(before or after or {})
        if _rows(type(record)._default_manager.filter(pk=record.pk)) != ({_name(record): after} if after else {}):
            raise ChangedMeanwhile({})
        if isinstance(record, Activity | Note):
            require_record(viewer, reference, record, now)
        else:
            require_about(viewer, reference, about, now)
        named = record if hasattr(record, "key") else about
        action = f"{type(named).__name__.lower()} change undone"
        audit(viewer, action, _detail(named), now, _differing(after, before), _differing(before, after))
    for _, after in [row for row in reversed(rows) if row[0] is None]:
        _remove(_record(after or {}))
    for before in [row[0] for row in rows if row[0] is not None]:
        _record(before).save()


def _detail(record: Any) -> str:
    return about_in_audit(record) if isinstance(record, Activity | Note) else str(record.key)


def _differing(row: Row | None, other: Row | None) -> str:
    """What the audit records of a row: the values that differ from the other."""
    if row is None:
        return ""
    record = _record(row)
    names = [
        one.name
        for one in record._meta.concrete_fields
        if row[one.attname] != (other or {}).get(one.attname)
        and row[one.attname] not in (None, "")
        and one.name not in ("id", "key")
    ]
    return as_text(values_of(record, names))


def _remove(record: models.Model) -> None:
    if has_belongings(record):
        raise InUse
    record.delete()


def _name(record: models.Model) -> str:
    return f"{type(record).__name__} {record.pk}"


def _rows(records: models.QuerySet[Any]) -> dict[str, Row]:
    return {
        _name(record): {"model": type(record).__name__}
        | {
            column.attname: column.get_prep_value(getattr(record, column.attname))
            for column in record._meta.concrete_fields
        }
        for record in records
    }


def _record(row: Row) -> Any:
    model = MODELS[row["model"]]
    return model(**{one.attname: one.to_python(row[one.attname]) for one in model._meta.concrete_fields})
