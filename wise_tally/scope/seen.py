"""What a viewer may open: deals from the book, accounts and leads through their owners.

An account or lead without an owner is open to all; else it is open to its owner, to those above, and an account also
to whoever may open one of its deals. `org/access` decides about people.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from django.db.models import Q, QuerySet
from django.http import HttpRequest

from wise_tally.core.book import Flags
from wise_tally.deals.models import Account, Deal, Lead
from wise_tally.org.access import Viewer, teams_seen
from wise_tally.org.clock import today
from wise_tally.shelf.book import Shelved, shelf

# SQLite takes only so many values in one statement.
AT_ONCE = 10_000


@dataclass(frozen=True)
class Sight:
    """What one viewer may open today."""

    viewer: Viewer
    shelved: Shelved

    @cached_property
    def people(self) -> frozenset[str] | None:
        """Identifiers of the people whose deals and customers are open; None for everybody's."""
        ground, day = self.shelved.book.ground, today()
        seen = teams_seen(self.viewer, ground, day)
        if seen is None:
            return None
        below = {p.key for i, p in enumerate(ground.people) if ground.team_of(i, day.toordinal()) in seen}
        return frozenset(below | {self.viewer.key})

    @cached_property
    def _mask(self) -> Flags:
        """Which deals of the book are open, shape (deals,): owned by or credited to these people."""
        book, day = self.shelved.book, today()
        standing = book.stand(day)
        mine = np.array([person.key in (self.people or ()) for person in book.ground.people], dtype=bool)
        mask = np.zeros(len(book.deals.key), dtype=bool)
        mask[standing.deal] = mine[standing.owner]
        rows = book.credits.on(day.toordinal())
        mask[book.credits.deal[rows][mine[book.credits.person[rows]]]] = True
        return mask

    def sees_deal(self, number: int) -> bool:
        """Whether the deal of this row number is open."""
        if self.people is None:
            return True
        index = self.shelved.index_of(number)
        return index is not None and bool(self._mask[index])

    def of_deals(self, found: Iterable[Deal]) -> list[Deal]:
        """Those of these deals that are open."""
        return [deal for deal in found if self.sees_deal(deal.pk)]

    def accounts(self) -> QuerySet[Account]:
        """Accounts that are open."""
        if self.people is None:
            return Account.objects.all()
        return Account.objects.filter(Q(owner=None) | Q(owner__key__in=self.people) | Q(pk__in=self._accounts_of_deals))

    @cached_property
    def _accounts_of_deals(self) -> set[int]:
        numbers = self.shelved.deal_numbers[np.flatnonzero(self._mask)].tolist()
        found: set[int] = set()
        for first in range(0, len(numbers), AT_ONCE):
            some = Deal.objects.filter(pk__in=numbers[first : first + AT_ONCE]).exclude(account=None)
            found |= set(some.values_list("account_id", flat=True).distinct())
        return found

    def leads(self) -> QuerySet[Lead]:
        """Leads that are open."""
        if self.people is None:
            return Lead.objects.all()
        return Lead.objects.filter(Q(owner=None) | Q(owner__key__in=self.people))


def sight(request: HttpRequest) -> Sight:
    """What the viewer of a request may open, worked out once a request."""
    if not hasattr(request, "sight"):
        request.sight = Sight(request.viewer, shelf.shelved())  # type: ignore[attr-defined]
    return request.sight  # type: ignore[attr-defined,no-any-return]
