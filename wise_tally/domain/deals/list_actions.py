"""Deal types, sources and lost reasons: deals carry their names, so a new name goes to the deals too."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import models, transaction
from django.db.models import Count

from wise_tally.domain.deals.models import Deal, DealRevision, Lead
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.book_number import old_rows_changed
from wise_tally.domain.org.records import InUse, save_record, take_away
from wise_tally.domain.process.models import DealType, LostReason, Source

# Where a name stands as text. Lost reasons stand in revisions, which are never altered: there the old words stay.
TEXTS: dict[type[models.Model], tuple[tuple[type[models.Model], str], ...]] = {
    DealType: ((Deal, "deal_type"),),
    Source: ((Deal, "source"), (Lead, "source")),
    LostReason: ((DealRevision, "lost_reason"),),
}


def in_use(model: type[models.Model]) -> dict[str, int]:
    """How often each text stands, listed or not."""
    numbers: dict[str, int] = {}
    for holder, column in TEXTS[model]:
        rows = holder._default_manager.exclude(**{column: ""}).values_list(column).annotate(Count("pk")).order_by()
        for text, count in rows:
            numbers[text] = numbers.get(text, 0) + count
    return numbers


@transaction.atomic
def save_named(
    viewer: Viewer,
    model: type[models.Model],
    key: str | None,
    values: Mapping[str, Any],
    now: datetime,
    expected: str = "",
) -> models.Model:
    """Add or change an entry; a new name is undated and goes to all deals and leads, but never into revisions."""
    before = model._default_manager.filter(key=key or "").values_list("name", flat=True).first()
    record = save_record(viewer, model, key, values, now, expected)
    if before is not None and before != values["name"]:
        for holder, column in TEXTS[model]:
            if holder is not DealRevision:
                holder._default_manager.filter(**{column: before}).update(**{column: values["name"]})
        old_rows_changed()
    return record


@transaction.atomic
def remove_named(viewer: Viewer, model: type[models.Model], key: str, now: datetime) -> None:
    """Take an entry away; raises InUse while deals carry it."""
    viewer.require(May.SET_RULES)
    name = model._default_manager.values_list("name", flat=True).get(key=key)
    count = in_use(model).get(name, 0)
    if count:
        raise InUse(
            f"“{name}” is used by {plural(count, 'deal or lead', 'deals or leads')}. Change these first, or retire it instead."
        )
    take_away(viewer, model, key, now)
