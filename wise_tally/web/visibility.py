"""What a viewer may open: the one door through which pages reach deals, accounts, contacts and leads.

An account or lead is open to its owner and to those above, an account also to whoever may open one of its deals. A lead
without an owner is open to all, so that somebody takes it up; an account without one to managers and administrators, and
to all where the organisation says so. `org/access` decides about people.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from itertools import islice
from typing import TypeVar

import numpy as np
from django.db.models import Q, QuerySet
from django.http import Http404

from wise_tally.book.attributes import attributes_of
from wise_tally.book.store import StoredBook, books
from wise_tally.core.book import Flags
from wise_tally.domain.database import among
from wise_tally.domain.deals.account_actions import likely_matches
from wise_tally.domain.deals.activity_actions import about_of
from wise_tally.domain.deals.models import Account, Activity, Contact, Deal, Lead, Note
from wise_tally.domain.org.access import May, Viewer, visible_people
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Workspace
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.telephone import digits_of, with_plain_phone

Record = TypeVar("Record")
Talk = TypeVar("Talk", Activity, Note)
# So many contacts with the same mail or number are looked at.
MOST_KNOWN = 5


@dataclass(frozen=True)
class Visibility:
    """What one viewer may open today."""

    viewer: Viewer
    stored: StoredBook

    @cached_property
    def people(self) -> frozenset[str] | None:
        """Identifiers of the people whose deals and customers are open; None for everybody's."""
        below = visible_people(self.viewer, self.stored.book.reference, today())
        return None if below is None else below | {self.viewer.key}

    @cached_property
    def _mask(self) -> Flags:
        """Which deals of the book are open, shape (deals,): owned by or credited to these people."""
        book, day = self.stored.book, today()
        snapshot = book.as_of(day)
        mine = np.array([person.key in (self.people or ()) for person in book.reference.people], dtype=bool)
        mask = np.zeros(len(book.deals.key), dtype=bool)
        mask[snapshot.deal] = mine[snapshot.owner]
        rows = book.credits.on(day.toordinal())
        mask[book.credits.deal[rows][mine[book.credits.person[rows]]]] = True
        return mask

    def sees_deal(self, number: int) -> bool:
        """Whether the deal of this row number is open."""
        if self.people is None:
            return True
        index = self.stored.index_of(number)
        return index is not None and bool(self._mask[index])

    def deals(self, wanted: Q, *related: str, at_most: int | None = None) -> list[Deal]:
        """The open ones of the deals that a condition finds, the newest first, `at_most` of them where it is given."""
        numbers = Deal.objects.filter(wanted).order_by("-created_at", "key").values_list("pk", flat=True)
        shown = list(islice((number for number in numbers.iterator() if self.sees_deal(number)), at_most))
        deals = Deal.objects.select_related(*related).in_bulk(shown)
        return [deals[number] for number in shown]

    def deal(self, key: str, *related: str) -> Deal:
        """The deal; raises Http404, also where it is not open, so that nobody learns which identifiers there are."""
        return self._only(self.deals(Q(key=key), *related))

    def accounts(self) -> QuerySet[Account]:
        """Accounts that are open."""
        if self.people is None:
            return Account.objects.all()
        mine = Q(owner__key__in=among(self.people)) | Q(pk__in=among(self._accounts_of_deals))
        if self.viewer.may(May.CHANGE_DEALS_BELOW) or Workspace.current().all_see_unowned:
            mine |= Q(owner=None)
        return Account.objects.filter(mine)

    def account(self, key: str, *related: str) -> Account:
        """The account; raises Http404, also where it is not open."""
        return self._only(self.accounts().filter(key=key).select_related(*related))

    def contacts(self) -> QuerySet[Contact]:
        """People at the accounts that are open."""
        return Contact.objects.all() if self.people is None else Contact.objects.filter(account__in=self.accounts())

    def contact(self, key: str) -> Contact:
        """Somebody at a customer's; raises Http404, also where the customer is not open."""
        return self._only(self.contacts().filter(key=key).select_related("account"))

    def lead(self, key: str, *related: str) -> Lead:
        """The lead; raises Http404, also where it is not open."""
        return self._only(self.leads().filter(key=key).select_related(*related))

    def activity(self, key: str) -> Activity:
        """An activity; raises Http404, also where what it is about is not open."""
        return self._about_open(Activity.objects.filter(key=key))

    def note(self, key: str) -> Note:
        """A note; raises Http404, also where what it is about is not open."""
        return self._about_open(Note.objects.filter(key=key))

    def _about_open(self, records: QuerySet[Talk]) -> Talk:
        record = self._only(records.select_related("person", "deal", "account", "lead"))
        about = about_of(record)
        if isinstance(about, Deal):
            is_open = self.sees_deal(about.pk)
        elif about is None:
            is_open = record.person is not None and record.person.key == self.viewer.key
        else:
            is_open = (self.leads() if isinstance(about, Lead) else self.accounts()).filter(pk=about.pk).exists()
        return self._only([record] if is_open else [])

    def likely_accounts(self, name: str, but: str = "") -> list[Account]:
        """Accounts that are open and whose name is likely the same customer's."""
        return likely_matches(name, self.accounts().exclude(key=but))

    def known_customers(self, name: str, email: str, phone: str) -> list[tuple[Account, str]]:
        """Open accounts that a lead may be from, with why: a contact with its mail or telephone number, or a name like it."""
        digits = digits_of(phone)
        customers: dict[int, tuple[Account, str]] = {}
        contacts = self.contacts().exclude(account=None).select_related("account")
        same_mail = contacts.filter(email__iexact=email) if email else contacts.none()
        same_phone = with_plain_phone(contacts).filter(plain_phone__endswith=digits) if digits else contacts.none()
        for contacts_so, why in ((same_mail, "same e-mail"), (same_phone, "same telephone")):
            for contact in contacts_so.order_by("name")[:MOST_KNOWN]:
                customers.setdefault(contact.account.pk, (contact.account, f"{contact.name}, {why}"))
        for account in self.likely_accounts(name):
            customers.setdefault(account.pk, (account, "similar name"))
        return list(customers.values())

    def twin_elsewhere(self, name: str) -> str:
        """In words whom to ask where a customer of such a name is there, but not open; empty where there is none."""
        if self.people is None:
            return ""
        hidden = Account.objects.exclude(pk__in=self.accounts().values("pk")).select_related("owner")
        twin = next(iter(likely_matches(name, hidden)), None)
        whom = twin.owner.name if twin and twin.owner else "a manager"
        return f"A customer of such a name is there already; ask {whom}." if twin else ""

    @staticmethod
    def _only(records: Iterable[Record]) -> Record:
        one = next(iter(records), None)
        if one is None:
            raise Http404
        return one

    @cached_property
    def _accounts_of_deals(self) -> set[int]:
        return set(attributes_of(self.stored.book).references("account")[self._mask].tolist())

    def leads(self) -> QuerySet[Lead]:
        """Leads that are open."""
        if self.people is None:
            return Lead.objects.all()
        return Lead.objects.filter(Q(owner=None) | Q(owner__key__in=among(self.people)))


def visible(request: PageRequest) -> Visibility:
    """What the viewer of a request may open, worked out once a request."""
    if not hasattr(request, "visible"):
        request.visible = Visibility(request.viewer, books.stored())
    return request.visible
