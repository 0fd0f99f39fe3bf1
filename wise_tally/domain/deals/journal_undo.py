"""What one step wrote into a journal, undone row by row as long as every row is still as the step left it."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import models, transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.activity_actions import About, require_about, require_record
from wise_tally.domain.deals.models import Activity, Lead, Note
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.records import ChangedMeanwhile, as_text

# The columns of a row as the database keeps them, by name, and under `model` which of these it is.
Row = dict[str, Any]
MODELS: dict[str, type[Activity] | type[Note] | type[Lead]] = {one.__name__: one for one in (Activity, Note, Lead)}


def rows_of(about: About | Activity) -> dict[str, Row]:
    """All that a step of a journal may write: activities and notes, of a lead itself; of an activity about nothing that alone."""
    if isinstance(about, Activity):
        records: list[models.Model] = [*Activity.objects.filter(pk=about.pk)]
    else:
        records = [
            *about.activities.all(),
            *about.notes.all(),
            *Lead.objects.filter(pk=about.pk if isinstance(about, Lead) else 0),
        ]
    return {f"{type(one).__name__} {one.pk}": _row(one) for one in records}


def changed_rows(before: dict[str, Row], after: dict[str, Row]) -> list[tuple[Row | None, Row | None]]:
    """Of the rows before a step and after it those that differ; None where there is no such row."""
    names = sorted({*before, *after})
    return [(before.get(name), after.get(name)) for name in names if before.get(name) != after.get(name)]


@transaction.atomic
def undo_step(
    viewer: Viewer, reference: ReferenceData, rows: Sequence[tuple[Row | None, Row | None]], now: datetime
) -> None:
    """Put the rows of a step back; raises ChangedMeanwhile where one is no longer as the step left it, PermissionDenied."""
    for before, after in rows:
        record = _record(before or after or {})
        present = type(record)._default_manager.filter(pk=record.pk).first()
        if (_row(present) if present else None) != after:
            raise ChangedMeanwhile({})
        if isinstance(record, Lead):
            require_about(viewer, reference, record, now)
        elif isinstance(record, Activity | Note):
            require_record(viewer, reference, record, now)
        if before is None:
            record.delete()
        else:
            record.save()
        audit(viewer, "journal entry put back", record.key, now, as_text(after or {}), as_text(before or {}))


def _row(record: models.Model) -> Row:
    columns = record._meta.concrete_fields
    return {"model": type(record).__name__} | {
        one.attname: one.get_prep_value(getattr(record, one.attname)) for one in columns
    }


def _record(row: Row) -> Activity | Note | Lead:
    model = MODELS[row["model"]]
    return model(**{one.attname: one.to_python(row[one.attname]) for one in model._meta.concrete_fields})
