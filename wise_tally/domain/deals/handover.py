"""Handing over what a leaver owns: open deals, accounts and leads, to one person or divided by a rule; undone in one go."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import sha256

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import move_all
from wise_tally.domain.deals.bulk import BulkRefused, put_back
from wise_tally.domain.deals.models import Account, DealRevision, Lead
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.models import StageKind
from wise_tally.domain.refusals import WriteRefused

OPEN_LEADS = ("", "new", "working")
RULES = {
    "all": "everything to one person",
    "territory": "each territory to one person",
    "account": "each account with its deals to one person",
    "evenly": "deal by deal, evenly by amount",
}


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

    @property
    def words(self) -> str:
        """The three numbers as people read them."""
        return f"{plural(self.deals, 'deal')}, {plural(self.accounts, 'account')} and {plural(self.leads, 'lead')}"


@dataclass
class Portion:
    """What goes to one person together: last revisions of deals, accounts and leads, with the open amount in minor units."""

    key: str
    name: str
    deals: list[DealRevision] = field(default_factory=list)
    accounts: list[Account] = field(default_factory=list)
    leads: list[Lead] = field(default_factory=list)

    @property
    def amount_minor(self) -> int:
        """The open amount of its deals."""
        return sum(revision.amount_minor for revision in self.deals)


@dataclass(frozen=True)
class HandedOver:
    """What was handed over, to be taken back: deals with their new revision, accounts and leads, each with its new owner."""

    giver: str
    deals: list[tuple[str, int]]
    accounts: list[tuple[str, str]]
    leads: list[tuple[str, str]]

    @property
    def owned(self) -> Owned:
        """How much it was."""
        return Owned(len(self.deals), len(self.accounts), len(self.leads))


def open_deals_of(person: Person) -> QuerySet[DealRevision]:
    """The last revisions of the open deals that a person owns now."""
    return last_revisions().filter(owner=person, stage__kind=StageKind.OPEN)


def _leads_of(person: Person) -> QuerySet[Lead]:
    return Lead.objects.filter(owner=person, status__in=OPEN_LEADS)


def owned_by(person: Person) -> Owned:
    """What a person owns now and could hand over."""
    accounts = Account.objects.filter(owner=person).count()
    return Owned(open_deals_of(person).count(), accounts, _leads_of(person).count())


def portions_of(giver: Person, rule: str) -> list[Portion]:
    """What a person owns in portions of a rule, the largest first. With `evenly` an account goes with its largest deal."""
    portions: dict[str, Portion] = {}

    def portion(key: str, name: str) -> Portion:
        return portions.setdefault(key, Portion(key, name))

    divide = {"territory": _by_territory, "account": _by_account, "evenly": _by_deal}.get(rule)
    largest: dict[int | None, Portion] = {}
    deals = open_deals_of(giver).select_related("deal__account", "territory").order_by("-amount_minor", "pk")
    for revision in deals:
        of = portion(*(divide(revision) if divide else ("all", "Everything")))
        of.deals.append(revision)
        largest.setdefault(revision.deal.account_id, of)
    for account in Account.objects.filter(owner=giver).select_related("territory").order_by("name", "pk"):
        if rule == "territory":
            of = portion(*_territory(account.territory))
        else:
            of = largest.get(account.pk) or portion(*(("all", "Everything") if rule == "all" else _account(account)))
        of.accounts.append(account)
    for lead in _leads_of(giver).order_by("name", "pk"):
        portion(*(("all", "Everything") if rule == "all" else (f"lead:{lead.key}", f"Lead {lead.name}"))).leads.append(
            lead
        )
    return sorted(portions.values(), key=lambda one: (-one.amount_minor, -len(one.accounts), one.name, one.key))


def _territory(territory: object) -> tuple[str, str]:
    key, name = (getattr(territory, part, "") for part in ("key", "name"))
    return f"territory:{key}", name or "without a territory"


def _account(account: Account) -> tuple[str, str]:
    return f"account:{account.key}", account.name


def _by_territory(revision: DealRevision) -> tuple[str, str]:
    return _territory(revision.territory)


def _by_account(revision: DealRevision) -> tuple[str, str]:
    account = revision.deal.account
    return _account(account) if account else _by_deal(revision)


def _by_deal(revision: DealRevision) -> tuple[str, str]:
    return f"deal:{revision.deal.key}", revision.deal.name


def proposed(portions: Sequence[Portion], takers: Sequence[Person]) -> dict[str, Person]:
    """Who takes each portion: the largest first, each to whom so far has least money; those without money by number alone.

    Source: the longest-processing-time rule of Graham (1969) for an even division.
    """
    amounts, numbers = ({taker.pk: 0 for taker in takers} for _ in range(2))
    given = {}
    for one in portions:
        loads, size = (amounts, one.amount_minor) if one.amount_minor else (numbers, len(one.accounts) + len(one.leads))
        taker = min(takers, key=lambda person: loads[person.pk])
        loads[taker.pk] += size
        given[one.key] = taker
    return given


def mark_of(portions: Iterable[Portion]) -> str:
    """A text that differs as soon as what is handed over does."""
    parts = [
        (
            portion.key,
            [r.pk for r in portion.deals],
            [a.pk for a in portion.accounts],
            [lead.pk for lead in portion.leads],
        )
        for portion in portions
    ]
    return sha256(repr(parts).encode()).hexdigest()[:16]


@transaction.atomic
def hand_over(
    viewer: Viewer, giver: Person, portions: Sequence[Portion], takers: Mapping[str, Person], now: datetime
) -> HandedOver:
    """Give open deals, accounts and leads to others; closed deals stay with whom they were won or lost by.

    Each deal gets one revision; what was before stays readable. Raises WriteRefused where somebody takes over from himself.
    """
    viewer.require(May.SET_ORGANISATION)
    if not portions:
        raise WriteRefused(f"{giver.name} owns nothing that could be transferred.")
    if giver in takers.values():
        raise WriteRefused("Choose another person to take over.")
    done = HandedOver(giver.key, [], [], [])
    for taker in sorted(set(takers.values()), key=lambda person: person.key):
        mine = [portion for portion in portions if takers[portion.key] == taker]
        revisions = [revision for one in mine for revision in one.deals]
        deals = [revision.deal_id for revision in revisions]
        move_all(
            viewer, last_revisions().filter(deal__in=deals), {"owner": taker}, f"transferred from {giver.name}", now
        )
        accounts = [account for one in mine for account in one.accounts]
        leads = [lead for one in mine for lead in one.leads]
        Account.objects.filter(pk__in=[account.pk for account in accounts]).update(owner=taker)
        Lead.objects.filter(pk__in=[lead.pk for lead in leads]).update(owner=taker)
        done.deals.extend(last_revisions().filter(deal__in=deals).values_list("deal__key", "pk"))
        done.accounts.extend((account.key, taker.key) for account in accounts)
        done.leads.extend((lead.key, taker.key) for lead in leads)
        given = Owned(len(deals), len(accounts), len(leads))
        audit(viewer, "transferred", given.words, now, _named(giver), _named(taker))
    revisions_added()
    return done


def _named(person: Person) -> str:
    return f"{person.name} ({person.key})"


@transaction.atomic
def take_back(viewer: Viewer, reference: ReferenceData, done: HandedOver, now: datetime) -> Owned:
    """Undo a hand-over, all or nothing; raises WriteRefused where something of it was changed since."""
    viewer.require(May.SET_ORGANISATION)
    giver = Person.objects.filter(key=done.giver).first()
    if giver is None or not done.owned.anything:
        raise WriteRefused("There is no transfer to undo.")
    for model, rows in ((Account, done.accounts), (Lead, done.leads)):
        owners = dict(model.objects.filter(key__in=[key for key, _ in rows]).values_list("key", "owner__key"))
        moved = [key for key, taker in rows if owners.get(key) != taker]
        if moved:
            raise WriteRefused(f"Nothing was undone: {moved[0]} has another owner since. Change the owners one by one.")
        model.objects.filter(key__in=owners).update(owner=giver)
    try:
        put_back(viewer, reference, done.deals, now)
    except BulkRefused as refused:
        deal, why = refused.faults[0]
        raise WriteRefused(f"Nothing was undone. {deal.name}: {why}") from refused
    audit(viewer, "transfer undone", done.owned.words, now, after=_named(giver))
    revisions_added()
    return done.owned
