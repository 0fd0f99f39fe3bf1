"""Another name for what targets are narrowed to: targets carry the name, as deals do, so it goes to them too."""

from datetime import datetime

from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.records import InUse
from wise_tally.domain.targets.models import Quota


def require_no_targets(column: str, name: str) -> None:
    """Raise InUse while targets are narrowed to a source or deal type (`column`) of that name."""
    if count := Quota.objects.filter(**{column: name}).count():
        raise InUse(f"“{name}” has {plural(count, 'quota')} and cannot be deleted. Retire it instead.")


def rename_in_targets(viewer: Viewer, column: str, before: str, after: str, now: datetime) -> int:
    """Give the targets of a source or deal type (`column`) its new name, of all days; returns how many there are."""
    viewer.require(May.SET_RULES)
    count = Quota.objects.filter(**{column: before}).update(**{column: after})
    if count:
        audit(viewer, "targets renamed", f"{plural(count, 'target')} by {column.replace('_', ' ')}", now, before, after)
        reference_changed()
    return count
