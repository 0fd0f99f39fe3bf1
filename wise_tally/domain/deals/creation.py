"""New deals: typed, or made of a lead."""

from dataclasses import dataclass, replace
from datetime import date, datetime

from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.account_actions import save_account
from wise_tally.domain.deals.models import Account, Contact, Deal, DealRevision
from wise_tally.domain.org.access import Viewer, require_change
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.org.records import new_key
from wise_tally.domain.process.models import Stage, StageKind
from wise_tally.domain.refusals import WriteRefused


@dataclass(frozen=True)
class NewDeal:
    """What a deal begins with."""

    name: str
    stage: Stage
    amount_minor: int
    expected_close: date | None
    owner: Person
    account: Account | None = None
    contact: Contact | None = None
    territory: Territory | None = None
    deal_type: str = ""
    source: str = ""
    campaign: str = ""
    next_step: str = ""
    next_step_on: date | None = None


@transaction.atomic
def add_deal(viewer: Viewer, reference: ReferenceData, new: NewDeal, now: datetime) -> Deal:
    """A new deal with its first revision; a deal without a territory takes its account's. Raises WriteRefused."""
    owner = reference.person_index.get(new.owner.key)
    if owner is None:
        raise WriteRefused("The owner was not found. Choose a person from the list.")
    require_change(viewer, reference, local_day(now, reference.time_zone), owner)
    if new.stage.kind != StageKind.OPEN or new.stage.retired or new.stage.process.retired:
        raise WriteRefused(f"A deal cannot start in “{new.stage.name}”. Choose an open stage.")
    moment = now.replace(microsecond=0)
    deal = Deal.objects.create(
        key=new_key(Deal, new.name),
        name=new.name,
        process=new.stage.process,
        created_at=moment,
        account=new.account,
        contact=new.contact,
        deal_type=new.deal_type,
        source=new.source,
        campaign=new.campaign,
        next_step=new.next_step,
        next_step_on=new.next_step_on,
    )
    DealRevision.objects.create(
        deal=deal,
        effective_at=moment,
        stage=new.stage,
        amount_minor=new.amount_minor,
        expected_close=new.expected_close,
        owner=new.owner,
        territory=new.territory or (new.account.territory if new.account else None),
        changed_by=viewer.key,
    )
    audit(viewer, "deal added", deal.key, now)
    revisions_added()
    return deal


@transaction.atomic
def add_deal_of(viewer: Viewer, reference: ReferenceData, new: NewDeal, customer: str, now: datetime) -> Deal:
    """Make a deal and, where a name is given, the new customer whose it is, in one step; raises WriteRefused."""
    if customer:
        values = {"name": customer, "kind": "organisation", "territory": new.territory, "owner": new.owner}
        account = save_account(viewer, reference, None, {**values, "industry": "", "country": ""}, now)
        new = replace(new, account=account)
    return add_deal(viewer, reference, new, now)
