"""Putting the last change of a deal back: a new revision with the state from before, so that nothing is hidden."""

from dataclasses import dataclass

from django.http import HttpRequest

from wise_tally.deals.actions import last_revision
from wise_tally.deals.models import Deal, DealRevision
from wise_tally.ui.templatetags.figures import money_input


@dataclass(frozen=True)
class LastChange:
    """What this person changed last, and what the deal was before, as a form posts it."""

    key: str
    name: str
    words: str
    stage: str
    amount: str
    expected_close: str
    category: str
    revision: int


def remember_change(request: HttpRequest, deal: Deal, before: DealRevision) -> None:
    """Keep in the session what the deal was before this person's change, if anything changed."""
    after = last_revision(deal)
    if after.pk == before.pk:
        return
    words = f"{before.stage.name} → {after.stage.name}" if before.stage != after.stage else "changed"
    request.session["last_change"] = {
        "key": deal.key,
        "name": deal.name,
        "words": words,
        "stage": before.stage.key,
        "amount": str(money_input(before.amount_minor)),
        "expected_close": before.expected_close.isoformat() if before.expected_close else "",
        "category": before.category.key if before.category else "",
        "revision": after.pk,
    }


def last_change(request: HttpRequest, key: str = "") -> LastChange | None:
    """This person's last change (of the deal `key`), as long as nobody changed the deal after it."""
    kept = request.session.get("last_change")
    if not kept or (key and kept["key"] != key):
        return None
    deal = Deal.objects.filter(key=kept["key"]).first()
    if deal is None or last_revision(deal).pk != kept["revision"]:
        return None
    return LastChange(**kept)
