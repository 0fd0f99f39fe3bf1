"""Activities and notes about deals, accounts and leads; files of deals."""

from collections.abc import Mapping
from datetime import datetime
from pathlib import PurePath
from typing import Any
from zoneinfo import ZoneInfo

from dateutil.relativedelta import relativedelta
from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import require_deal
from wise_tally.domain.deals.customer_access import require_customer
from wise_tally.domain.deals.models import Account, Activity, Deal, KeptFile, Lead, Note
from wise_tally.domain.org.access import May, Viewer, require_giving
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import as_text, new_key, values_of
from wise_tally.domain.refusals import WriteRefused

About = Deal | Account | Lead
MOST_BYTES = 10_000_000
# What people keep with a deal; nothing that a browser or a desktop would run.
ENDINGS = (".pdf", ".png", ".jpg", ".jpeg", ".txt", ".csv", ".xlsx", ".docx", ".pptx", ".odt", ".ods", ".odp", ".eml")
CONTENT = ("kind", "at", "subject", "status")


# How often a planned activity comes again: in words, and how many weeks or months later.
REPEATS = {
    "week": "every week",
    "two_weeks": "every two weeks",
    "month": "every month",
    "quarter": "every three months",
}
WEEKS, MONTHS = {"week": 1, "two_weeks": 2}, {"month": 1, "quarter": 3}


def require_about(viewer: Viewer, reference: ReferenceData, about: About, now: datetime) -> None:
    """Raise PermissionDenied unless the viewer may add to what is known about a deal, an account or a lead."""
    if isinstance(about, Deal):
        require_deal(viewer, reference, about, local_day(now, reference.time_zone))
    else:
        require_customer(viewer, reference, about, local_day(now, reference.time_zone))


def _links(about: About) -> dict[str, Any]:
    """What a record about something refers to; a deal's account comes with it."""
    if isinstance(about, Deal):
        return {"deal": about, "account": about.account}
    return {"account": about} if isinstance(about, Account) else {"lead": about}


@transaction.atomic
def add_activity(
    viewer: Viewer, reference: ReferenceData, about: About, values: Mapping[str, Any], now: datetime
) -> Activity:
    """A phone call, meeting, mail, visit or task, done or planned, of the person who writes it down or of `person` in the values."""
    require_about(viewer, reference, about, now)
    person = Person.objects.filter(key=viewer.key).first()
    key = new_key(Activity, f"{viewer.key}_{now:%Y%m%d%H%M%S}")
    activity = Activity.objects.create(key=key, **{"person": person, **_links(about), **values})
    audit(viewer, "activity added", about_in_audit(activity), now, after=as_text(values_of(activity, list(CONTENT))))
    return activity


def assignee(viewer: Viewer, reference: ReferenceData, key: str, now: datetime) -> Person:
    """Whom something is planned for: oneself, or somebody to whom the viewer may give work. Raises PermissionDenied."""
    person = Person.objects.filter(key=key).first()
    if person is None:
        raise PermissionDenied("Choose somebody from the list to plan this for.")
    if person.key != viewer.key:
        require_giving(viewer, reference, local_day(now, reference.time_zone), None, person)
    return person


def about_of(record: Activity | Note) -> About | None:
    """What an activity or a note is about: its deal, else its lead, else its account."""
    return record.deal or record.lead or record.account


def about_in_audit(record: Activity | Note) -> str:
    """What a record is about, as the audit names it: “deal d1”; its own identifier where it is about nothing."""
    about = about_of(record)
    return f"{type(about).__name__.lower()} {about.key}" if about else record.key


@transaction.atomic
def change_activity(
    viewer: Viewer, reference: ReferenceData, activity: Activity, values: Mapping[str, Any], now: datetime
) -> None:
    """Mark an activity as done, put it off, or change what it says."""
    require_record(viewer, reference, activity, now)
    before = as_text(values_of(activity, list(values)))
    comes_again = activity.status == "planned" and values.get("status") == "done" and activity.repeat
    if comes_again:
        _plan_again(viewer, reference, activity, now)
        values = {**values, "repeat": ""}
    for name, value in values.items():
        setattr(activity, name, value)
    activity.save(update_fields=list(values))
    audit(viewer, "activity changed", about_in_audit(activity), now, before, as_text(values_of(activity, list(values))))


def _plan_again(viewer: Viewer, reference: ReferenceData, activity: Activity, now: datetime) -> None:
    """Plan the next of an activity that repeats: at the same time of day, the first one after now."""
    zone = ZoneInfo(reference.time_zone)
    planned = activity.at.astimezone(zone)
    step = relativedelta(weeks=WEEKS.get(activity.repeat, 0), months=MONTHS.get(activity.repeat, 0))
    number = 1
    while planned.replace(tzinfo=None) + step * number <= now.astimezone(zone).replace(tzinfo=None):
        number += 1
    moment = (planned.replace(tzinfo=None) + step * number).replace(tzinfo=zone)
    values = {
        name: getattr(activity, name) for name in ("kind", "person", "account", "deal", "lead", "subject", "repeat")
    }
    key = new_key(Activity, f"{activity.key}_{moment:%Y%m%d}"[-60:])
    again = Activity.objects.create(key=key, at=moment, status="planned", **values)
    audit(viewer, "activity added", about_in_audit(again), now, after=as_text(values_of(again, list(CONTENT))))


@transaction.atomic
def take_activity_away(viewer: Viewer, reference: ReferenceData, activity: Activity, now: datetime) -> None:
    """Delete an activity that was written down by mistake."""
    require_record(viewer, reference, activity, now)
    audit(
        viewer, "activity taken away", about_in_audit(activity), now, before=as_text(values_of(activity, list(CONTENT)))
    )
    activity.delete()


def require_record(viewer: Viewer, reference: ReferenceData, record: Activity | Note, now: datetime) -> None:
    """Whose record it is may change it; others need the right to change what it is about."""
    if record.person is not None and record.person.key == viewer.key and viewer.may(May.CHANGE_OWN_DEALS):
        return
    about = about_of(record)
    if about is None:
        viewer.require(May.CHANGE_ALL_DEALS)
    else:
        require_about(viewer, reference, about, now)


@transaction.atomic
def add_note(viewer: Viewer, reference: ReferenceData, about: About, text: str, now: datetime) -> Note:
    """A note of the person who writes it."""
    require_about(viewer, reference, about, now)
    person = Person.objects.filter(key=viewer.key).first()
    key = new_key(Note, f"{viewer.key}_{now:%Y%m%d%H%M%S}")
    note = Note.objects.create(key=key, at=now, person=person, text=text, **_links(about))
    audit(viewer, "note added", about_in_audit(note), now, after=text)
    return note


@transaction.atomic
def take_note_away(viewer: Viewer, reference: ReferenceData, note: Note, now: datetime) -> None:
    """Delete a note; its text stays in the audit."""
    require_record(viewer, reference, note, now)
    audit(viewer, "note taken away", about_in_audit(note), now, before=note.text)
    note.delete()


@transaction.atomic
def add_file(
    viewer: Viewer, reference: ReferenceData, deal: Deal, name: str, content: bytes, now: datetime
) -> KeptFile:
    """Keep a file with a deal; raises WriteRefused for one that is too large or of a kind that can do harm."""
    require_deal(viewer, reference, deal, local_day(now, reference.time_zone))
    name = PurePath(name.replace("\\", "/")).name[:200]
    if not name.lower().endswith(ENDINGS):
        raise WriteRefused(f"This file type is not allowed. Use one of: {', '.join(ENDINGS)}.")
    if len(content) > MOST_BYTES:
        raise WriteRefused(f"The file has {len(content) / 1e6:.0f} MB. The limit is {MOST_BYTES // 1_000_000} MB.")
    kept_file = KeptFile.objects.create(
        key=new_key(KeptFile, name), deal=deal, name=name, at=now, by=viewer.key, content=content
    )
    audit(viewer, "file added", deal.key, now, after=name)
    return kept_file


@transaction.atomic
def take_file_away(viewer: Viewer, reference: ReferenceData, file: KeptFile, now: datetime) -> None:
    """Delete a file of a deal."""
    require_deal(viewer, reference, file.deal, local_day(now, reference.time_zone))
    audit(viewer, "file taken away", file.deal.key, now, before=file.name)
    file.delete()
