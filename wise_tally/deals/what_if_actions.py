"""Applying what was supposed: each deal as its own change, stages as dated rules, all of it or none."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.core.ground import Ground
from wise_tally.deals.actions import DealState, OldState, StageRefused, change_deal, last_revision
from wise_tally.deals.bulk import BulkRefused, Changed
from wise_tally.deals.models import Deal, DealRevision
from wise_tally.org.access import Viewer
from wise_tally.process.actions import StageEdit, rule_in_force, set_stages
from wise_tally.process.models import Stage


@dataclass(frozen=True)
class DealWish:
    """What an open deal shall become; None or an empty outcome leaves it as it is. Money in minor units."""

    outcome: str = ""
    amount_minor: int | None = None
    expected_close: date | None = None
    probability_bp: int | None = None

    def state_of(self, deal: Deal, last: DealRevision) -> DealState:
        """The state of a deal after the wish."""
        stage = last.stage
        if self.outcome:
            kept = deal.process.stages.filter(kind=self.outcome, retired=False).order_by("position").first()
            stage = kept or stage
        return DealState(
            stage,
            last.amount_minor if self.amount_minor is None else self.amount_minor,
            self.expected_close or last.expected_close,
            last.category,
            probability_bp=self.probability_bp,
            sets_probability=self.probability_bp is not None and not self.outcome,
        )


@transaction.atomic
def apply_what_if(
    viewer: Viewer,
    ground: Ground,
    deals: Mapping[str, tuple[int, DealWish]],
    stages: Mapping[str, int],
    reason: str,
    now: datetime,
) -> list[Changed]:
    """Change deals (identifier → revision seen and wish) and probabilities of stages (identifier → basis points).

    Raises BulkRefused with the reason of each deal that cannot be changed so, or PermissionDenied; then nothing is.
    """
    found, faults = [], []
    for deal in Deal.objects.filter(key__in=list(deals)).select_related("process").order_by("name", "key"):
        seen, wish = deals[deal.key]
        before = last_revision(deal)
        try:
            with transaction.atomic():
                after = change_deal(viewer, ground, deal, seen, wish.state_of(deal, before), reason, now)
            if after.pk != before.pk:
                found.append(Changed(deal, before, after))
        except (StageRefused, OldState, PermissionDenied) as refused:
            faults.append((deal, str(refused)))
    if faults:
        raise BulkRefused(faults)
    if stages:
        set_stages(viewer, [_edit(stage, stages[stage.key], now) for stage in _named(stages)], now.date(), now)
    return found


def _named(stages: Mapping[str, int]) -> list[Stage]:
    return list(Stage.objects.filter(key__in=list(stages)).order_by("key"))


def _edit(stage: Stage, probability_bp: int, now: datetime) -> StageEdit:
    held = rule_in_force(stage, now)
    days = held.typical_days_hundredths
    return StageEdit(stage, stage.name, probability_bp, held.category, days, stage.own_probability, stage.required)
