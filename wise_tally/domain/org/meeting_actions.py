"""Meetings held: what was said at the last one is what people compare with, and do, until the next."""

from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import Count, Q, QuerySet

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import AgreedAction, Meeting, Person
from wise_tally.domain.org.records import ChangedMeanwhile, new_key
from wise_tally.domain.refusals import WriteRefused

MOST_TEXT = 10_000


def last_meeting(viewer: Viewer, person_key: str, before: date) -> date | None:
    """The day of the last meeting before a day: with the person, or about all; the viewer's own where there is one."""
    meetings = Meeting.objects.filter(person_key=person_key, held_on__lt=before).order_by("-held_on")
    own = meetings.filter(by__key=viewer.key).first() or meetings.first()
    return own.held_on if own else None


def last_meetings(viewer: Viewer, before: date) -> dict[str, date]:
    """The same of everybody with whom a meeting was held, by identifier."""
    meetings = Meeting.objects.filter(held_on__lt=before).order_by("held_on")
    last = dict(meetings.values_list("person_key", "held_on"))
    return last | dict(meetings.filter(by__key=viewer.key).values_list("person_key", "held_on"))


def open_actions_of(day: date) -> dict[str, int]:
    """How many agreed actions are open on a day, by the identifier of their person."""
    actions = AgreedAction.objects.filter(Q(done_on=None) | Q(done_on__gt=day), agreed_on__lte=day)
    return dict(actions.values("person_key").annotate(number=Count("pk")).values_list("person_key", "number"))


def _holder(viewer: Viewer) -> Person:
    viewer.require(May.SET_RULES)
    by = Person.objects.filter(key=viewer.key).first()
    if by is None:
        raise PermissionDenied("Only people of this workspace can hold a one-to-one; ask an administrator to add you.")
    return by


@transaction.atomic
def hold_meeting(viewer: Viewer, person_key: str, on: date, now: datetime) -> Meeting:
    """Keep that a meeting was held; raises PermissionDenied for those who hold none."""
    by = _holder(viewer)
    meeting, is_new = Meeting.objects.get_or_create(by=by, person_key=person_key, held_on=on)
    if is_new:
        audit(viewer, "meeting held", person_key or "all", now, after=str(on))
    return meeting


@transaction.atomic
def keep_notes(viewer: Viewer, whose: tuple[str, date], text: str, expected: str, now: datetime) -> Meeting:
    """Notes of a meeting with somebody on a day, which is kept as held. Raises ChangedMeanwhile where others wrote."""
    meeting = hold_meeting(viewer, *whose, now)
    text, before = text.strip(), meeting.notes
    if before not in (expected, text):
        raise ChangedMeanwhile({"notes": before})
    if before != text:
        meeting.notes = text
        meeting.save(update_fields=["notes"])
        audit(viewer, "meeting notes", whose[0], now, before, text)
    return meeting


def open_actions(person_key: str, day: date) -> QuerySet[AgreedAction]:
    """What was agreed with somebody by the end of a day and was not done by then, the first due first."""
    not_done = Q(done_on=None) | Q(done_on__gt=day)
    actions = AgreedAction.objects.filter(not_done, person_key=person_key, agreed_on__lte=day).select_related("by")
    return actions.order_by("due_on", "agreed_on", "key")


@transaction.atomic
def agree(
    viewer: Viewer, whose: tuple[str, date], text: str, due_on: date | None, now: datetime, finding: str = ""
) -> AgreedAction:
    """Keep what was agreed with somebody on a day, about a finding or not; carried over until it is done. Raises WriteRefused."""
    by, text = _holder(viewer), text.strip()
    if not text or len(text) > MOST_TEXT:
        raise WriteRefused("Enter the agreed action.")
    key = new_key(AgreedAction, f"{whose[0]} {text[:30]}")
    action = AgreedAction.objects.create(
        key=key, person_key=whose[0], by=by, agreed_on=whose[1], text=text, due_on=due_on, finding=finding[:200]
    )
    audit(viewer, "action agreed", key, now, after=text)
    return action


@transaction.atomic
def tick_action(viewer: Viewer, action: AgreedAction, done: bool, on: date, now: datetime) -> None:
    """Mark what was agreed as done, or as not done after all: whoever holds meetings, and the person it was agreed with."""
    if viewer.key != action.person_key:
        _holder(viewer)
    before = str(action.done_on or "")
    action.done_on = on if done else None
    action.save(update_fields=["done_on"])
    audit(viewer, "action done" if done else "action opened again", action.key, now, before, str(action.done_on or ""))
