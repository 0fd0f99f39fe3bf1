"""Reads of deals that several actions share."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime

import numpy as np
from django.db.models import BigIntegerField, Exists, Max, OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce, Greatest

from wise_tally.core.customer import days_since_contact
from wise_tally.domain.database import among
from wise_tally.domain.deals.models import Account, Activity, Deal, DealRevision
from wise_tally.domain.process.models import Stage, StageKind


def last_revisions() -> QuerySet[DealRevision]:
    """The revision in effect of every deal: the last that is not void."""
    later = DealRevision.objects.filter(deal=OuterRef("deal"), void=False, pk__gt=OuterRef("pk"))
    return DealRevision.objects.filter(~Exists(later), void=False)


CONTACT_KINDS = ("phone", "meeting", "mail", "site_visit")
# What was written down without a status was done.
DONE = ("", "done")


def done_contacts() -> QuerySet[Activity]:
    """Done activities that count as contact with a customer; web visits and tasks do not."""
    return Activity.objects.filter(kind__in=CONTACT_KINDS, status__in=DONE)


def planned_about_deals(before: datetime) -> QuerySet[Activity]:
    """Activities planned about deals for a moment before another."""
    return Activity.objects.filter(status="planned", at__lt=before, deal__isnull=False)


Planned = tuple[int, str, str, date | None, str]


def next_steps_between(after: date, last: date) -> Iterator[Planned]:
    """Row number, identifier, name, day and words of the deals whose next step is due after a day and by another, in order."""
    deals = Deal.objects.filter(next_step_on__gt=after, next_step_on__lte=last).order_by("next_step_on", "key")
    yield from deals.values_list("pk", "key", "name", "next_step_on", "next_step").iterator(chunk_size=100)


def without_next_step(keys: Sequence[str]) -> frozenset[str]:
    """Those of a few deals for which no next step is set."""
    return frozenset(Deal.objects.filter(key__in=among(keys), next_step="").values_list("key", flat=True))


def contacts_by_account(before: datetime) -> QuerySet[Account, tuple[int, int]]:
    """Of each account its row number and the second of its last done contact, 0 for none.

    Each kind and way of saying done is one step into the index, where grouping would read every contact ever made.
    """
    contacts = Activity.objects.filter(account=OuterRef("pk"), at__lt=before).order_by("-at")
    ways = [contacts.filter(kind=kind, status=status) for kind in CONTACT_KINDS for status in DONE]
    lasts = [Coalesce(Subquery(way.values("at")[:1], output_field=BigIntegerField()), 0) for way in ways]
    return Account.objects.order_by().values_list("pk", Greatest(*lasts))


def last_contacts(deals: Iterable[Deal], before: datetime) -> dict[int, datetime | None]:
    """For each deal (row number) when anybody last contacted its customer before a moment, or about the deal where it has none."""
    wanted = list(deals)
    accounts = {deal.account_id for deal in wanted if deal.account_id is not None}
    alone = {deal.pk for deal in wanted if deal.account_id is None}
    done = done_contacts().filter(at__lt=before)
    by_account = dict(done.filter(account_id__in=accounts).values_list("account_id").annotate(last=Max("at")))
    by_deal = dict(done.filter(deal_id__in=alone).values_list("deal_id").annotate(last=Max("at")))
    return {
        deal.pk: by_account.get(deal.account_id) if deal.account_id is not None else by_deal.get(deal.pk)
        for deal in wanted
    }


def contact_days(deals: Iterable[Deal], moment: datetime) -> dict[int, float]:
    """For each deal (row number) the days from the last contact before a moment, or from its creation, to that moment."""
    wanted = list(deals)
    last = last_contacts(wanted, moment)
    met = np.array([0 if (contact := last[deal.pk]) is None else contact.timestamp() for deal in wanted])
    created = np.array([deal.created_at.timestamp() for deal in wanted])
    days = days_since_contact(met, created, moment.timestamp())
    return dict(zip([deal.pk for deal in wanted], days.tolist(), strict=True))


def closed_from(deal: Deal) -> Stage | None:
    """The open stage in which a deal stood last; None where it is not known."""
    revision = (
        DealRevision.objects.filter(deal=deal, void=False, stage__kind=StageKind.OPEN)
        .select_related("stage")
        .order_by("-pk")
        .first()
    )
    return revision.stage if revision else deal.lost_from
