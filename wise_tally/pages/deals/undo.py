"""What this person changed last, as long as it can be undone."""

from dataclasses import dataclass

from django.db.models import Q

from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.difference import difference
from wise_tally.domain.deals.revert import revision_before
from wise_tally.web.deal_saving import LAST
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


@dataclass(frozen=True)
class LastChange:
    """A change in words, with the revision that putting it back names."""

    key: str
    name: str
    words: str
    revision: int


def last_change(request: PageRequest, key: str = "") -> LastChange | None:
    """This person's last change (of the deal `key`), as long as nobody changed the deal after it."""
    saved = request.session.get(LAST)
    if not saved or (key and saved["key"] != key):
        return None
    deal = next(iter(visible(request).deals(Q(key=saved["key"]))), None)
    if deal is None or (last := last_revision(deal)).pk != saved["revision"]:
        return None
    before = revision_before(last)
    return LastChange(deal.key, deal.name, " · ".join(difference(before, last)) if before else "added", last.pk)
