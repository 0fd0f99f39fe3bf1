"""Which accounts and leads a viewer may change; `org/access` decides about people."""

from datetime import date

from django.core.exceptions import PermissionDenied

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.models import Account, Lead
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.org.access import May, Viewer, may_change_deal


def may_change_account(viewer: Viewer, reference: ReferenceData, account: Account, today: date) -> bool:
    """Whether the viewer may change an account; who works on one of its deals may."""
    if _may_change_of(viewer, reference, account.owner.key if account.owner else None, today):
        return True
    owners = last_revisions().filter(deal__account=account).values_list("owner__key", flat=True).distinct()
    return any(_may_change_of(viewer, reference, owner, today) for owner in owners)


def may_change_lead(viewer: Viewer, reference: ReferenceData, lead: Lead, today: date) -> bool:
    """Whether the viewer may change a lead."""
    return _may_change_of(viewer, reference, lead.owner.key if lead.owner else None, today)


def require_customer(viewer: Viewer, reference: ReferenceData, of: Account | Lead, today: date) -> None:
    """Raise PermissionDenied unless the viewer may change an account or a lead."""
    given = (viewer, reference)
    may = may_change_account(*given, of, today) if isinstance(of, Account) else may_change_lead(*given, of, today)
    if not may:
        raise PermissionDenied(
            f"This {type(of).__name__.lower()} belongs to somebody else. Its owner, their manager or an administrator can change it."
        )


def _may_change_of(viewer: Viewer, reference: ReferenceData, owner: str | None, today: date) -> bool:
    if owner is None:
        return viewer.may(May.CHANGE_OWN_DEALS)
    index = reference.person_index.get(owner)
    return index is not None and may_change_deal(viewer, reference, today, index)
