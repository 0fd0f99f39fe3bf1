"""Following up by telephone: reached with what came of it, not reached with the next try, or later."""

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.activity_actions import About, add_activity, change_activity
from wise_tally.domain.deals.lead_actions import work_on_lead
from wise_tally.domain.deals.models import Activity, Lead
from wise_tally.domain.org.access import Viewer

REACHED, NOT_REACHED, LATER = OUTCOMES = ("reached", "not reached", "later")
SATURDAY = 5


class FollowUpRefused(Exception):
    """It has been followed up already, such as by the same form sent twice."""


@dataclass(frozen=True)
class FollowUp:
    """What became of a try: in words what was said, and the day of the next step or try (None for none)."""

    outcome: str
    text: str
    next_on: date | None


def planned_for(person_key: str, before: datetime) -> QuerySet[Activity]:
    """What a person has planned for a moment before another about deals, accounts and leads, the first due first."""
    found = Activity.objects.filter(status="planned", at__lt=before, person__key=person_key)
    return found.select_related("deal__contact", "deal__account", "account", "lead").order_by("at", "pk")


def next_try(day: date) -> date:
    """The day proposed for the next try: the working day after (Monday after a weekend)."""
    following = day + timedelta(days=1)
    return following if following.weekday() < SATURDAY else following + timedelta(days=7 - following.weekday())


@transaction.atomic
def follow_up(
    viewer: Viewer, reference: ReferenceData, about: About, planned: Activity | None, what: FollowUp, now: datetime
) -> None:
    """Keep what became of a try, in one step; a lead that was new is then being worked on.

    Not reached is written down as a task: it is no contact with the customer and clears no contact gap. Raises
    FollowUpRefused.
    """
    at = datetime.combine(what.next_on, time(12), ZoneInfo(reference.time_zone)) if what.next_on else None
    _require_due(about, planned, at if what.outcome == NOT_REACHED else None)
    if isinstance(about, Lead) and about.status in ("new", "") and what.outcome != LATER:
        work_on_lead(viewer, reference, about, now)
        about.refresh_from_db()
    kind, subject = (planned.kind, planned.subject) if planned else ("phone", "")
    if what.outcome == REACHED:
        said = what.text or subject or "reached"
        if planned:
            values = {"status": "done", "at": now, "subject": f"{subject}: {what.text}" if what.text else said}
            change_activity(viewer, reference, planned, values, now)
        else:
            add_activity(viewer, reference, about, {"kind": kind, "subject": said, "at": now, "status": "done"}, now)
        planned, subject = None, what.text or subject
    elif what.outcome == NOT_REACHED:
        tried = {"kind": "task", "subject": f"Tried by {kind}, not reached", "at": now, "status": "done"}
        add_activity(viewer, reference, about, tried, now)
    if at:
        if planned:
            change_activity(viewer, reference, planned, {"at": at, "status": "planned"}, now)
        else:
            values = {"kind": "phone", "subject": subject or "Try again", "at": at, "status": "planned"}
            add_activity(viewer, reference, about, values, now)


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
        raise FollowUpRefused(f"{about.name} has been followed up already. Look at its journal before you try again.")
