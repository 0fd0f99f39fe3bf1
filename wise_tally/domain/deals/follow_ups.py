"""Following up by telephone: reached with its outcome, not reached with the next try, or later."""

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.activity_actions import About, add_activity, change_activity
from wise_tally.domain.deals.lead_actions import work_on_lead
from wise_tally.domain.deals.models import Activity, Deal, Lead
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import OutboxMessage, Person, Workspace
from wise_tally.domain.refusals import WriteConflict

REACHED, NOT_REACHED, LATER = OUTCOMES = ("reached", "not reached", "later")
SATURDAY = 5
# What the firm's message to somebody who was not reached may hold, in braces.
MESSAGE_PLACEHOLDERS = {"name", "me", "firm", "next"}


@dataclass(frozen=True)
class FollowUp:
    """The outcome of a try: what was said in words, the day of the next step or try (None for none), and whether the firm's
    message goes to somebody who was not reached."""

    outcome: str
    text: str
    next_on: date | None
    with_message: bool = False


def planned_for(person_key: str, before: datetime) -> QuerySet[Activity]:
    """What a person has planned for a moment before another about deals, accounts and leads, the first due first."""
    planned = Activity.objects.filter(status="planned", at__lt=before, person__key=person_key)
    return planned.select_related("deal__contact", "deal__account", "account", "lead").order_by("at", "pk")


def next_try(day: date) -> date:
    """The day proposed for the next try: the working day after (Monday after a weekend)."""
    following = day + timedelta(days=1)
    return following if following.weekday() < SATURDAY else following + timedelta(days=7 - following.weekday())


@transaction.atomic
def follow_up(
    viewer: Viewer, reference: ReferenceData, about: About, planned: Activity | None, what: FollowUp, now: datetime
) -> None:
    """Keep the outcome of a try, in one step; a lead that was new is then being worked on.

    Not reached is written down as a task: it is no contact with the customer and clears no contact gap. Raises
    WriteConflict.
    """
    moment = datetime.combine(what.next_on, time(12), ZoneInfo(reference.time_zone)) if what.next_on else None
    _require_due(about, planned, moment if what.outcome == NOT_REACHED else None)
    if isinstance(about, Lead) and about.status in ("new", "") and what.outcome != LATER:
        work_on_lead(viewer, reference, about, now)
        about.refresh_from_db()
    kind, subject = (planned.kind, planned.subject) if planned else ("phone", "")
    if what.outcome == REACHED:
        words = what.text or subject or "reached"
        if planned:
            values = {"status": "done", "at": now, "subject": f"{subject}: {what.text}" if what.text else words}
            change_activity(viewer, reference, planned, values, now)
        else:
            add_activity(viewer, reference, about, {"kind": kind, "subject": words, "at": now, "status": "done"}, now)
        planned, subject = None, what.text or subject
    elif what.outcome == NOT_REACHED:
        sent = ", message sent" if what.with_message else ""
        tried = {"kind": "task", "subject": f"Tried by {kind}, not reached{sent}", "at": now, "status": "done"}
        add_activity(viewer, reference, about, tried, now)
        if what.with_message:
            _send_message(viewer, reference, about, what.next_on, now)
    if moment:
        if planned:
            change_activity(viewer, reference, planned, {"at": moment, "status": "planned"}, now)
        else:
            values = {"kind": "phone", "subject": subject or "Try again", "at": moment, "status": "planned"}
            add_activity(viewer, reference, about, values, now)


def _send_message(viewer: Viewer, reference: ReferenceData, about: About, next_on: date | None, now: datetime) -> None:
    """Put the firm's message into the outbox; raises WriteConflict without a message or a mail address."""
    name, _, email = reached_by(about)
    subject, _, body = Workspace.current().not_reached_message.strip().partition("\n")
    if not subject or not email:
        raise WriteConflict("There is no message or no mail address. Choose Not reached without a message.")
    me = Person.objects.filter(key=viewer.key).values_list("name", flat=True).first() or reference.organisation
    known = {"name": name or about.name, "me": me, "firm": reference.organisation, "next": day(next_on)}
    for placeholder, value in known.items():
        subject, body = (text.replace(f"{{{placeholder}}}", value) for text in (subject, body))
    deal_key = about.key if isinstance(about, Deal) else ""
    OutboxMessage.objects.create(at=now, to=email, subject=subject[:200], body=body.strip(), deal_key=deal_key)


def reached_by(about: About) -> tuple[str, str, str]:
    """Name, telephone number and mail address of whom to reach; of a deal its contact, else the first of the account."""
    if isinstance(about, Lead):
        return about.name, about.phone, about.email
    contact = about.contact if isinstance(about, Deal) else None
    account = about.account if isinstance(about, Deal) else about
    contact = contact or (account.contacts.order_by("name").first() if account else None)
    return (contact.name, contact.phone, contact.email) if contact else ("", "", "")


def _require_due(about: About, planned: Activity | None, moved_to: datetime | None) -> None:
    """What was planned is still open and not yet moved, or the lead is new and nothing is planned yet."""
    if planned:
        planned.refresh_from_db()
        is_due = planned.status == "planned" and planned.at != moved_to
    elif isinstance(about, Lead):
        about.refresh_from_db()
        is_due = about.status in ("new", "") and not about.activities.filter(status="planned").exists()
    else:
        is_due = True
    if not is_due:
        raise WriteConflict(f"{about.name} has been followed up already. Look at its journal before you try again.")
