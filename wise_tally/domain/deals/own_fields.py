"""Own fields of deals, accounts and leads, and saving a record together with them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import models

from wise_tally.domain.deals.entry import own_value
from wise_tally.domain.deals.models import OwnField, OwnFieldValue
from wise_tally.domain.org.records import ChangedMeanwhile, as_text, new_key, values_of


def own_values(applies_to: str, subject_key: str) -> dict[str, str]:
    """The values of a subject's own fields by identifier of the field."""
    values = OwnFieldValue.objects.filter(subject_key=subject_key, field__applies_to=applies_to)
    return dict(values.order_by("field__key").values_list("field__key", "value"))


def own_shown(applies_to: str, subject_key: str) -> list[tuple[str, str]]:
    """The same by name of the field, to be read."""
    values = OwnFieldValue.objects.filter(subject_key=subject_key, field__applies_to=applies_to)
    return list(values.order_by("field__key").values_list("field__name", "value"))


def keep_own(applies_to: str, subject_key: str, values: Mapping[str, str]) -> None:
    """Keep the values of a subject's own fields; those without one lose it. Raises WriteRefused."""
    for field in OwnField.objects.filter(applies_to=applies_to):
        if text := values.get(field.key, ""):
            defaults = {"value": own_value(field, text)}
            OwnFieldValue.objects.update_or_create(field=field, subject_key=subject_key, defaults=defaults)
        else:
            OwnFieldValue.objects.filter(field=field, subject_key=subject_key).delete()


@dataclass(frozen=True)
class Kind:
    """A kind of record with own fields, and the columns that its form saves."""

    model: type[models.Model]
    applies_to: str
    columns: Sequence[str]

    def text(self, record: Any) -> str:
        """A record with its own fields as one text; forms carry it so that an edit made on an old state is noticed."""
        return as_text(values_of(record, list(self.columns)) | {"own": own_values(self.applies_to, record.key)})

    def add(self, values: Mapping[str, Any], **more: Any) -> Any:
        """A new record with its own fields."""
        columns = {name: values[name] for name in self.columns}
        key = new_key(self.model, columns["name"])
        record = self.model._default_manager.create(key=key, **columns, **more)
        keep_own(self.applies_to, key, values.get("own", {}))
        return record

    def change(self, record: Any, values: Mapping[str, Any], expected: str) -> str:
        """Change a record and its own fields; returns it as it was. Raises ChangedMeanwhile or WriteRefused."""
        before = self.text(record)
        if expected and expected != before:
            now = values_of(record, list(self.columns))
            raise ChangedMeanwhile(now | dict(own_shown(self.applies_to, record.key)))
        for name in self.columns:
            setattr(record, name, values[name])
        record.save(update_fields=list(self.columns))
        keep_own(self.applies_to, record.key, values.get("own", {}))
        return before
