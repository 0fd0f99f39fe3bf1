"""What every action writes: who did what, when."""

from datetime import date, datetime

from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import AuditEntry, Person

# What a base column said held from here on once dated rows begin.
BEGINNING = date(1970, 1, 1)


def audit(viewer: Viewer, action: str, detail: str, now: datetime, before: str = "", after: str = "") -> None:
    """Write who did what into the audit, with the value before and after."""
    person = Person.objects.filter(key=viewer.key).first()
    who = f"{viewer.name} ({viewer.key})" if viewer.key else viewer.name
    AuditEntry.objects.create(at=now, person=person, who=who, action=action, detail=detail, before=before, after=after)
