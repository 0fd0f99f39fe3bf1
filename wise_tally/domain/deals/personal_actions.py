"""Personal data of somebody at a customer's, or of a lead: everything that is kept, to hand out; and erased for good."""

from datetime import datetime
from typing import Any

from django.db import models, transaction
from django.db.models import F, Q, QuerySet, Value
from django.db.models.functions import Replace

from wise_tally.domain.deals.models import Activity, Contact, Lead, Note
from wise_tally.domain.deals.own_fields import own_shown
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import AuditEntry, OutboxMessage
from wise_tally.domain.org.records import values_of

ERASED = "erased person"
# What identifies a person; all of it is replaced wherever it stands in texts.
PERSONAL = ("name", "email", "phone")
COLUMNS: dict[type[models.Model], tuple[str, ...]] = {
    Contact: (*PERSONAL, "job_title"),
    Lead: (*PERSONAL, "customer", "source", "status", "created_at", "closed_at", "dropped_because"),
}


def _about(record: Contact | Lead) -> Q:
    """Talk in which somebody may be named: a lead's own, or that with the whole customer."""
    return Q(lead=record) if isinstance(record, Lead) else Q(account=record.account) | Q(deal__account=record.account)


def _named(record: Contact | Lead, *fields: str) -> Q:
    """Rows in which a text field holds what identifies a person."""
    condition = Q(pk__in=())
    for word in filter(None, (getattr(record, name) for name in PERSONAL)):
        for field in fields:
            condition |= Q(**{f"{field}__icontains": word})
    return condition


def held_about(record: Contact | Lead) -> dict[str, Any]:
    """Everything kept about somebody, as plain values: what is known, what was written down, what was done with it."""
    activities = Activity.objects.filter(_about(record)).filter(
        _named(record, "subject") if isinstance(record, Contact) else Q()
    )
    notes = Note.objects.filter(_about(record)).filter(_named(record, "text") if isinstance(record, Contact) else Q())
    about = (record.key, f"{type(record).__name__.lower()} {record.key}")
    entries = AuditEntry.objects.filter(Q(detail__in=about) | _named(record, "before", "after", "detail"))
    return {
        "known": values_of(record, list(COLUMNS[type(record)])),
        "own_fields": dict(own_shown("lead", record.key)) if isinstance(record, Lead) else {},
        "customer": record.account.name if isinstance(record, Contact) else record.customer,
        "activities": [values_of(one, ["at", "kind", "status", "subject"]) for one in activities.order_by("at")],
        "notes": [values_of(one, ["at", "text"]) for one in notes.order_by("at")],
        "messages": [
            values_of(one, ["at", "to", "subject", "body"]) for one in OutboxMessage.objects.filter(_mail(record))
        ],
        "audit": [
            values_of(one, ["at", "who", "action", "detail", "before", "after"]) for one in entries.order_by("pk")
        ],
    }


def _mail(record: Contact | Lead) -> Q:
    return _named(record, "to", "subject", "body")


def _replace(records: QuerySet[Any], record: Contact | Lead, *fields: str) -> None:
    for word in filter(None, (getattr(record, name) for name in PERSONAL)):
        for field in fields:
            rows = records.filter(**{f"{field}__contains": word})
            rows.update(**{field: Replace(F(field), Value(word), Value(ERASED))})


@transaction.atomic
def hand_out(viewer: Viewer, record: Contact | Lead, now: datetime) -> dict[str, Any]:
    """Everything kept about somebody; that it was handed out is written down."""
    viewer.require(May.SET_ORGANISATION)
    data = held_about(record)
    audit(viewer, "personal data handed out", record.key, now)
    return data


@transaction.atomic
def erase(viewer: Viewer, record: Contact | Lead, now: datetime) -> None:
    """Replace name, mail and phone everywhere; figures stay, and the audit keeps that it happened, not what stood there."""
    viewer.require(May.SET_ORGANISATION)
    _replace(Activity.objects.filter(_about(record)), record, "subject")
    _replace(Note.objects.filter(_about(record)), record, "text")
    _replace(OutboxMessage.objects.all(), record, "to", "subject", "body")
    _replace(AuditEntry.objects.all(), record, "detail", "before", "after")
    cleared = {"name": ERASED, "email": "", "phone": ""} | ({"job_title": ""} if isinstance(record, Contact) else {})
    type(record)._default_manager.filter(pk=record.pk).update(**cleared)
    audit(viewer, "personal data erased", record.key, now)
