"""Small records that people keep by name: added, changed and taken away, each with what was before in the audit."""

import json
from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any

from django.db import models, transaction
from django.db.models import ProtectedError
from django.utils.text import slugify

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.refusals import WriteConflict


class ChangedMeanwhile(Exception):
    """Somebody else changed the record since the page was opened; `now` holds its present values by name."""

    def __init__(self, now: Mapping[str, Any]) -> None:
        super().__init__("Somebody else has changed this in the meantime.")
        self.now = now

    def otherwise(self, expected: str) -> dict[str, Any]:
        """The present values that differ from those expected, a text of as_text."""
        there = expected_values(expected)
        return {name: value for name, value in self.now.items() if there.get(name) != value}


class InUse(WriteConflict):
    """The record cannot be taken away because others refer to it."""


def new_key(model: type[models.Model], name: str, before: str = "") -> str:
    """An identifier that no row of the model has, read from a name."""
    base = (before + (slugify(name).replace("-", "_") or "item"))[:58]
    key, number = base, 2
    while model._default_manager.filter(key=key).exists():
        key, number = f"{base}_{number}", number + 1
    return key


def has_belongings(record: models.Model, but: type[models.Model] | None = None) -> bool:
    """Whether any row of another model, `but` for one, refers to a record."""
    others = [one for one in record._meta.related_objects if one.related_model is not but]
    return any(other.related_model._base_manager.filter(**{other.field.name: record}).exists() for other in others)  # type: ignore[union-attr]


def plain(value: Any) -> Any:
    """A kept value as JSON can hold it."""
    if isinstance(value, models.Model):
        return getattr(value, "key", value.pk)
    return value.isoformat() if isinstance(value, date | datetime) else value


def values_of(record: models.Model, names: list[str]) -> dict[str, Any]:
    """The named values of a record in plain form."""
    return {name: plain(getattr(record, name)) for name in names}


def as_text(values: Mapping[str, Any]) -> str:
    """Values as one text, always the same for the same values."""
    return json.dumps({name: plain(value) for name, value in values.items()}, ensure_ascii=False, sort_keys=True)


def expected_values(text: str) -> dict[str, Any]:
    """The values that `as_text` wrote; none where it is not such a text."""
    try:
        values = json.loads(text)
    except ValueError:
        return {}
    return values if isinstance(values, dict) else {}


@transaction.atomic
def save_record(  # noqa: PLR0913 - who, where, which, what, when, on which state, with which right
    viewer: Viewer,
    model: type[models.Model],
    key: str | None,
    values: Mapping[str, Any],
    now: datetime,
    expected: str = "",
    right: May = May.SET_RULES,
) -> models.Model:
    """Add a record (`key` None) or change one; raises ChangedMeanwhile where it is no longer as `expected`."""
    viewer.require(right)
    if key is None:
        record = model._default_manager.create(key=new_key(model, values["name"]), **values)
        before = ""
    else:
        record = model._default_manager.get(key=key)
        saved = values_of(record, list(values))
        before = as_text(saved)
        if expected and expected != before:
            raise ChangedMeanwhile(saved)
        if before == as_text(values):
            return record
        for name, value in values.items():
            setattr(record, name, value)
        record.save(update_fields=list(values))
    words = model._meta.verbose_name or model.__name__
    audit(viewer, f"{words} {'changed' if key else 'added'}", _named(record), now, before, as_text(values))
    reference_changed()
    return record


@transaction.atomic
def put_in_order(viewer: Viewer, model: type[models.Model], field: str, keys: Sequence[str], now: datetime) -> None:
    """Number records from 1 in the order of their identifiers; those not named follow in their old order."""
    viewer.require(May.SET_RULES)
    records: dict[str, Any] = {record.key: record for record in model._default_manager.order_by(field, "pk")}  # type: ignore[attr-defined]
    before = list(records)
    order = [key for key in dict.fromkeys(keys) if key in records]
    order += [key for key in before if key not in order]
    for number, key in enumerate(order, 1):
        model._default_manager.filter(key=key).update(**{field: number})
    audit(viewer, f"{model._meta.verbose_name} order", "", now, ", ".join(before), ", ".join(order))
    reference_changed()


@transaction.atomic
def take_away(viewer: Viewer, model: type[models.Model], key: str, now: datetime, right: May = May.SET_RULES) -> None:
    """Delete a record that nothing refers to; raises InUse otherwise."""
    viewer.require(right)
    record = model._default_manager.get(key=key)
    name = _named(record)
    try:
        record.delete()
    except ProtectedError as error:
        kinds = sorted({str(item._meta.verbose_name_plural) for item in error.protected_objects})
        raise InUse(f"{name} is still used by {', '.join(kinds)}. Change these first.") from error
    audit(viewer, f"{model._meta.verbose_name} deleted", name, now, before=name)
    reference_changed()


def _named(record: models.Model) -> str:
    return f"{getattr(record, 'name', record.pk)} ({getattr(record, 'key', record.pk)})"
