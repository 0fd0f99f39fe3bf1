"""Changing the organisation's settings."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from wise_tally.org.access import May, Viewer
from wise_tally.org.actions import audit
from wise_tally.org.book_number import old_rows_changed
from wise_tally.org.models import Workspace
from wise_tally.org.records import as_text, values_of


@transaction.atomic
def set_organisation(viewer: Viewer, values: Mapping[str, Any], now: datetime) -> None:
    """Name, currency, time zone, fiscal year and what reps see; undated, so all figures follow at once."""
    viewer.require(May.SET_ORGANISATION)
    workspace = Workspace.current()
    before = as_text(values_of(workspace, list(values)))
    for name, value in values.items():
        setattr(workspace, name, value)
    workspace.save()
    audit(viewer, "organisation set", workspace.organisation, now, before, as_text(values))
    old_rows_changed()
