"""Several deals changed at once: each as its own change, all of them or none."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.core.ground import Ground
from wise_tally.deals.actions import DealState, OldState, StageRefused, change_deal, last_revision
from wise_tally.deals.models import Deal, DealRevision
from wise_tally.org.access import Viewer
from wise_tally.org.models import Person, Territory
from wise_tally.process.models import Category, Stage

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


class BulkRefused(Exception):
    """Deals that cannot be changed so, with the reason of each; nothing was changed."""

    def __init__(self, faults: list[tuple[Deal, str]]) -> None:
        super().__init__(f"{len(faults)} deals cannot be changed so.")
        self.faults = faults


@transaction.atomic
def change_each(
    viewer: Viewer,
    ground: Ground,
    seen: Mapping[str, int],
    wanted: Callable[[Deal, DealRevision], DealState],
    reason: str,
    now: datetime,
) -> list[Changed]:
    """Give each deal (identifier → revision seen) the state that `wanted` makes of its last, or raise BulkRefused."""
    found, faults = [], []
    for deal in Deal.objects.filter(key__in=list(seen)).select_related("process").order_by("name", "key"):
        before = last_revision(deal)
        try:
            with transaction.atomic():
                after = change_deal(viewer, ground, deal, seen[deal.key], wanted(deal, before), reason, now)
            if after.pk != before.pk:
                found.append(Changed(deal, before, after))
        except (StageRefused, OldState, PermissionDenied) as refused:
            faults.append((deal, str(refused)))
    if faults:
        raise BulkRefused(faults)
    return found


@transaction.atomic
def bulk_change(
    viewer: Viewer,
    ground: Ground,
    seen: dict[str, int],
    edit: BulkEdit,
    now: datetime,
    dry: bool = False,
) -> list[Changed]:
    """Change all deals named in `seen` (identifier → revision seen), or raise BulkRefused; `dry` undoes it at the end."""
    some = dict(list(seen.items())[:MOST])
    found = change_each(viewer, ground, some, lambda deal, last: edit.state_of(last), "changed with others", now)
    if dry:
        transaction.set_rollback(True)
    return found


@transaction.atomic
def put_back(viewer: Viewer, ground: Ground, changes: list[tuple[str, int, int]], now: datetime) -> int:
    """Give deals the state from before a change of several; raises BulkRefused where one was changed since."""
    faults, count = [], 0
    for key, before_pk, after_pk in changes:
        deal = Deal.objects.select_related("process").filter(key=key).first()
        before = DealRevision.objects.filter(pk=before_pk, deal=deal).first()
        if deal is None or before is None:
            continue
        columns = (
            before.stage,
            before.amount_minor,
            before.expected_close,
            before.category,
            before.owner,
            before.territory,
        )
        try:
            change_deal(viewer, ground, deal, after_pk, DealState(*columns, moves_place=True), "put back", now)
            count += 1
        except (StageRefused, OldState, PermissionDenied) as refused:
            faults.append((deal, str(refused)))
    if faults:
        raise BulkRefused(faults)
    return count
