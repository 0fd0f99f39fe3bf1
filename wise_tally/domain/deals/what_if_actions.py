"""Applying what was supposed: each deal as its own change, stages as dated rules, all of it or none."""

from collections.abc import Mapping
from datetime import date, datetime

from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.what_if import Supposed
from wise_tally.domain.deals.actions import DealState
from wise_tally.domain.deals.bulk import Changed, Reasons, change_each
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.process.actions import StageEdit, rule_in_force, set_stages
from wise_tally.domain.process.models import Stage


def _state_of(wish: Supposed, deal: Deal, last: DealRevision) -> DealState:
    """The state of a deal in which what is supposed of it is so."""
    stage = last.stage
    if wish.outcome:
        stage = deal.process.stages.filter(kind=wish.outcome, retired=False).order_by("position").first() or stage
    return DealState(
        stage,
        last.amount_minor if wish.amount_minor is None else wish.amount_minor,
        last.expected_close if wish.expected_close is None else date.fromordinal(wish.expected_close),
        last.category,
        probability_bp=wish.probability_bp,
        sets_probability=wish.probability_bp is not None and not wish.outcome,
    )


@transaction.atomic
def apply_what_if(
    viewer: Viewer,
    reference: ReferenceData,
    deals: Mapping[str, tuple[int, Supposed]],
    stages: Mapping[str, int],
    reasons: Reasons,
    now: datetime,
) -> list[Changed]:
    """Change deals (identifier → revision expected and what is supposed) and probabilities of stages (identifier → basis points).

    Raises BulkRefused with the reason of each deal that cannot be changed so, or PermissionDenied; then nothing is.
    """
    expected = {key: revision for key, (revision, _) in deals.items()}
    changed = change_each(
        viewer, reference, expected, lambda deal, last: _state_of(deals[deal.key][1], deal, last), reasons, now
    )
    adopt_probabilities(viewer, stages, local_day(now), now)
    return changed


def adopt_probabilities(viewer: Viewer, stages: Mapping[str, int], from_on: date, now: datetime) -> int:
    """Give stages (by identifier) other probabilities (basis points) from a day on, the rest as it is; returns how many changed."""
    edits = []
    for stage in Stage.objects.filter(key__in=list(stages)).order_by("key"):
        rule = rule_in_force(stage, now)
        rest = (rule.category, rule.typical_days_hundredths, stage.own_probability, stage.required)
        edits.append(StageEdit(stage, stage.name, stages[stage.key], *rest))
    return set_stages(viewer, edits, from_on, now) if edits else 0
