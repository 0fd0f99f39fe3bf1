"""Several deals changed at once: each as its own change, all of them or none."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import (
    NO_CLOSING,
    Closing,
    ClosingRefused,
    DealState,
    OldState,
    StageRefused,
    Typed,
    change_deal,
    last_revision,
)
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.revert import revert
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.process.models import Category, Stage

MOST = 500


@dataclass(frozen=True)
class BulkEdit:
    """What all the deals shall have; None leaves it as it is."""

    stage: Stage | None = None
    owner: Person | None = None
    expected_close: date | None = None
    category: Category | None = None
    territory: Territory | None = None

    @property
    def is_empty(self) -> bool:
        """Whether nothing would change."""
        return not any((self.stage, self.owner, self.expected_close, self.category, self.territory))

    def state_of(self, last: DealRevision) -> DealState:
        """The state of a deal after the edit."""
        return DealState(
            self.stage or last.stage,
            last.amount_minor,
            self.expected_close or last.expected_close,
            self.category or last.category,
            self.owner,
            self.territory,
            self.territory is not None,
        )


@dataclass(frozen=True)
class Changed:
    """A deal's revision before and after."""

    deal: Deal
    before: DealRevision
    after: DealRevision


@dataclass(frozen=True)
class Reasons:
    """Why deals are changed together, and what closing them needs."""

    reason: str
    closing: Closing = NO_CLOSING


class BulkRefused(Exception):
    """Deals that cannot be changed so, with the reason of each; nothing was changed."""

    def __init__(self, faults: list[tuple[Deal, str]]) -> None:
        super().__init__(f"{plural(len(faults), 'deal')} cannot be changed so.")
        self.faults = faults


@transaction.atomic
def change_each(
    viewer: Viewer,
    reference: ReferenceData,
    expected: Mapping[str, int],
    wanted: Callable[[Deal, DealRevision], DealState],
    reasons: Reasons,
    now: datetime,
) -> list[Changed]:
    """Give each deal (identifier → revision expected) the state that `wanted` makes of its last, or raise BulkRefused."""
    changed, faults = [], []
    for deal in Deal.objects.filter(key__in=list(expected)).select_related("process").order_by("name", "key"):
        before = last_revision(deal)
        try:
            with transaction.atomic():
                state = wanted(deal, before)
                after = change_deal(
                    viewer,
                    reference,
                    deal,
                    expected[deal.key],
                    state,
                    reasons.reason,
                    now,
                    Typed(closing=reasons.closing),
                )
            if after.pk != before.pk:
                changed.append(Changed(deal, before, after))
        except (StageRefused, OldState, PermissionDenied, ClosingRefused) as refused:
            faults.append((deal, str(refused)))
    if faults:
        raise BulkRefused(faults)
    return changed


@transaction.atomic
def bulk_change(  # noqa: PLR0913 - who, what, of which deals, when, with what closing needs, whether for good
    viewer: Viewer,
    reference: ReferenceData,
    expected: dict[str, int],
    edit: BulkEdit,
    now: datetime,
    closing: Closing = NO_CLOSING,
    dry: bool = False,
) -> list[Changed]:
    """Change all deals named in `expected` (identifier → revision expected), or raise BulkRefused; `dry` undoes it at the end."""
    some = dict(list(expected.items())[:MOST])
    changed = change_each(
        viewer, reference, some, lambda deal, last: edit.state_of(last), Reasons("changed with others", closing), now
    )
    if dry:
        transaction.set_rollback(True)
    return changed


@transaction.atomic
def put_back(viewer: Viewer, reference: ReferenceData, changes: list[tuple[str, int]], now: datetime) -> int:
    """Put changes of several deals (identifier and the change's revision) back; raises BulkRefused where one was changed since."""
    faults = []
    revisions = dict(changes)
    deals = Deal.objects.filter(key__in=list(revisions)).order_by("name", "key")
    for deal in deals:
        try:
            with transaction.atomic():
                revert(viewer, reference, deal, revisions[deal.key], now)
        except (StageRefused, OldState, PermissionDenied) as refused:
            faults.append((deal, str(refused)))
    if faults:
        raise BulkRefused(faults)
    return len(deals)
