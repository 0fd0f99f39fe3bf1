"""Meetings held: what was said at the last one is what people compare with at the next."""

from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.org.access import May, Viewer
from wise_tally.org.actions import audit
from wise_tally.org.models import Meeting, Person


def last_meeting(viewer: Viewer, person_key: str, before: date) -> date | None:
    """The day of the last meeting before a day: with the person, or about all; the viewer's own where there is one."""
    held = Meeting.objects.filter(person_key=person_key, held_on__lt=before).order_by("-held_on")
    own = held.filter(by__key=viewer.key).first() or held.first()
    return own.held_on if own else None


@transaction.atomic
def hold_meeting(viewer: Viewer, person_key: str, on: date, now: datetime) -> Meeting:
    """Keep that a meeting was held; raises PermissionDenied for those who hold none."""
    viewer.require(May.SET_RULES)
    by = Person.objects.filter(key=viewer.key).first()
    if by is None:
        raise PermissionDenied("A meeting is held by somebody of the firm; you are not among its people.")
    meeting, is_new = Meeting.objects.get_or_create(by=by, person_key=person_key, held_on=on)
    if is_new:
        audit(viewer, "meeting held", person_key or "all", now, after=str(on))
    return meeting
