"""Leads: taken in, worked on, qualified into a deal, or dropped with a reason."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.account_actions import save_account
from wise_tally.domain.deals.creation import NewDeal, add_deal
from wise_tally.domain.deals.customer_access import require_customer
from wise_tally.domain.deals.models import Account, Activity, Contact, Deal, Lead, LeadMove, Note
from wise_tally.domain.deals.own_fields import Kind
from wise_tally.domain.org.access import May, Viewer, require_giving
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import new_key
from wise_tally.domain.process.models import LeadStep
from wise_tally.domain.refusals import WriteRefused

LEAD_COLUMNS = ("name", "customer", "email", "phone", "source", "owner", "status", "step", "campaign", "score")
LEADS = Kind(Lead, "lead", LEAD_COLUMNS)
CLOSED = ("qualified", "dropped")


@dataclass(frozen=True)
class Qualified:
    """What a lead becomes: the deal, and its account where there is one already (else a new one is made)."""

    deal: NewDeal
    account: Account | None
    account_name: str
    kind: str = "organisation"


@transaction.atomic
def save_lead(
    viewer: Viewer,
    reference: ReferenceData,
    key: str | None,
    values: Mapping[str, Any],
    now: datetime,
    expected: str = "",
) -> Lead:
    """Take a lead in or change one; raises ChangedMeanwhile or WriteRefused."""
    if key is None:
        viewer.require(May.CHANGE_OWN_DEALS)
        require_giving(viewer, reference, local_day(now, reference.time_zone), None, values["owner"])
        first = LeadStep.objects.offered().order_by("position").first()
        lead, before = LEADS.add({**values, "step": values.get("step") or first}, created_at=now), ""
        _keep_move(viewer, lead, None, now)
    else:
        lead = Lead.objects.get(key=key)
        _require_open(viewer, reference, lead, now)
        require_giving(viewer, reference, local_day(now, reference.time_zone), lead.owner, values["owner"])
        step = lead.step
        before = LEADS.change(lead, values, expected)
        _keep_move(viewer, lead, step, now)
    audit(viewer, f"lead {'changed' if key else 'taken in'}", lead.key, now, before, LEADS.text(lead))
    return lead  # type: ignore[no-any-return]


def _keep_move(viewer: Viewer, lead: Lead, before: LeadStep | None, now: datetime) -> None:
    """Write a step down that a lead took; beyond the first one it is being worked on."""
    if lead.step is None or lead.step == before:
        return
    LeadMove.objects.create(lead=lead, step=lead.step, at=now.replace(microsecond=0), by=viewer.key)
    if lead.status in ("new", "") and LeadStep.objects.filter(position__lt=lead.step.position, retired=False).exists():
        Lead.objects.filter(pk=lead.pk).update(status="working")
    audit(viewer, "lead moved", lead.key, now, before.name if before else "", lead.step.name)


@transaction.atomic
def move_lead(viewer: Viewer, reference: ReferenceData, lead: Lead, step: LeadStep, now: datetime) -> None:
    """Move an open lead to a step; raises WriteRefused."""
    _require_open(viewer, reference, lead, now)
    if step.retired and step != lead.step:
        raise WriteRefused(f"The step “{step.name}” is retired. Choose another.")
    before, lead.step = lead.step, step
    Lead.objects.filter(pk=lead.pk).update(step=step)
    _keep_move(viewer, lead, before, now)


def _require_open(viewer: Viewer, reference: ReferenceData, lead: Lead, now: datetime) -> None:
    require_customer(viewer, reference, lead, local_day(now, reference.time_zone))
    if lead.status in CLOSED:
        raise WriteRefused(f"This lead is already {lead.status}. Only new or working leads can be changed.")


@transaction.atomic
def work_on_lead(viewer: Viewer, reference: ReferenceData, lead: Lead, now: datetime) -> None:
    """Begin to work on a lead; one without an owner becomes the viewer's."""
    _require_open(viewer, reference, lead, now)
    owner = lead.owner or Person.objects.filter(key=viewer.key).first()
    Lead.objects.filter(pk=lead.pk).update(status="working", owner=owner)
    audit(viewer, "lead worked on", lead.key, now, before=lead.status)


@transaction.atomic
def drop_lead(viewer: Viewer, reference: ReferenceData, lead: Lead, because: str, now: datetime) -> None:
    """Close a lead that comes to nothing, with the reason."""
    _require_open(viewer, reference, lead, now)
    if not because:
        raise WriteRefused("Enter a reason for disqualifying the lead.")
    _close(lead, "dropped", now)
    Lead.objects.filter(pk=lead.pk).update(dropped_because=because[:200])
    audit(viewer, "lead dropped", lead.key, now, after=because)


@transaction.atomic
def take_up_again(viewer: Viewer, reference: ReferenceData, lead: Lead, now: datetime) -> None:
    """Open a dropped lead again: it is being worked on."""
    require_customer(viewer, reference, lead, local_day(now, reference.time_zone))
    if lead.status != "dropped":
        raise WriteRefused("Only disqualified leads can be reopened.")
    Lead.objects.filter(pk=lead.pk).update(status="working", closed_at=None, dropped_because="")
    audit(viewer, "lead taken up again", lead.key, now, before=lead.dropped_because)


@transaction.atomic
def qualify_lead(viewer: Viewer, reference: ReferenceData, lead: Lead, wanted: Qualified, now: datetime) -> Deal:
    """Make a deal of a lead, with account and contact, in one step; its activities and notes come along."""
    _require_open(viewer, reference, lead, now)
    account = wanted.account
    if account is None and wanted.account_name:
        values = {"name": wanted.account_name, "kind": wanted.kind, "territory": wanted.deal.territory}
        account = save_account(
            viewer, reference, None, values | {"owner": wanted.deal.owner, "industry": "", "country": ""}, now
        )
    contact = None
    if account is not None:
        contact = _contact_of(lead, account)
    deal = add_deal(viewer, reference, replace(wanted.deal, account=account, contact=contact), now)
    for model in (Activity, Note):
        model._default_manager.filter(lead=lead).update(deal=deal, account=account)
    Lead.objects.filter(pk=lead.pk).update(deal=deal)
    _close(lead, "qualified", now)
    audit(viewer, "lead qualified", lead.key, now, after=deal.key)
    return deal


def _contact_of(lead: Lead, account: Account) -> Contact:
    """The lead as somebody at the account: the one with the same mail or name, else a new one."""
    known = account.contacts.filter(email__iexact=lead.email).first() if lead.email else None
    known = known or account.contacts.filter(name__iexact=lead.name).first()
    if known:
        return known
    values = {"name": lead.name, "email": lead.email, "phone": lead.phone}
    return Contact.objects.create(key=new_key(Contact, lead.name), account=account, **values)


def _close(lead: Lead, status: str, now: datetime) -> None:
    Lead.objects.filter(pk=lead.pk).update(status=status, closed_at=now.replace(microsecond=0))
    lead.refresh_from_db()
