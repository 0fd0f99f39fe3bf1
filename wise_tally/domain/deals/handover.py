"""Handing over what a leaver owns: open deals, accounts and leads in one go."""

from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.domain.deals.actions import move_all
from wise_tally.domain.deals.models import Account, DealRevision, Lead
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.models import StageKind

OPEN_LEADS = ("", "new", "working")


@dataclass(frozen=True)
class Owned:
    """How much a person owns."""

    deals: int
    accounts: int
    leads: int

    @property
    def anything(self) -> bool:
        """Whether there is something to hand over."""
        return bool(self.deals or self.accounts or self.leads)


def open_deals_of(person: Person) -> QuerySet[DealRevision]:
    """The last revisions of the open deals that a person owns now."""
    return last_revisions().filter(owner=person, stage__kind=StageKind.OPEN)


def owned_by(person: Person) -> Owned:
    """What a person owns now and could hand over."""
    leads = Lead.objects.filter(owner=person, status__in=OPEN_LEADS)
    return Owned(open_deals_of(person).count(), Account.objects.filter(owner=person).count(), leads.count())


@transaction.atomic
def hand_over(viewer: Viewer, giver: Person, taker: Person, now: datetime) -> Owned:
    """Give all open deals, accounts and leads to another; closed deals stay with whom they were won or lost by.

    Each deal gets one revision; what was before stays readable. Raises ValueError where both are the same.
    """
    viewer.require(May.SET_ORGANISATION)
    if giver == taker:
        raise ValueError("Choose another person to take over.")
    owned = owned_by(giver)
    move_all(viewer, open_deals_of(giver), {"owner": taker}, f"handed over from {giver.name}", now)
    Account.objects.filter(owner=giver).update(owner=taker)
    Lead.objects.filter(owner=giver, status__in=OPEN_LEADS).update(owner=taker)
    words = f"{plural(owned.deals, 'deal')}, {plural(owned.accounts, 'account')}, {plural(owned.leads, 'lead')}"
    audit(viewer, "handed over", words, now, f"{giver.name} ({giver.key})", f"{taker.name} ({taker.key})")
    revisions_added()
    return owned
