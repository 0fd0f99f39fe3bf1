"""Changing the organisation's settings."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import old_rows_changed
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.org.records import ChangedMeanwhile, as_text, values_of


@transaction.atomic
def set_organisation(viewer: Viewer, values: Mapping[str, Any], now: datetime, expected: str = "") -> None:
    """Name, currency, time zone, fiscal year and what reps see; undated, so all figures follow at once.

    Raises ChangedMeanwhile where the settings are no longer as `expected`.
    """
    viewer.require(May.SET_ORGANISATION)
    workspace = Workspace.current()
    saved = values_of(workspace, list(values))
    before = as_text(saved)
    if expected and expected != before:
        raise ChangedMeanwhile(saved)
    for name, value in values.items():
        setattr(workspace, name, value)
    workspace.save()
    audit(viewer, "organisation set", workspace.organisation, now, before, as_text(values))
    old_rows_changed()
