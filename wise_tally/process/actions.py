"""Changes of stages: dated rules that keep what held before, and their order."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from zoneinfo import ZoneInfo

from django.db import transaction

from wise_tally.org.access import May, Viewer
from wise_tally.org.actions import BEGINNING, audit
from wise_tally.org.book_number import ground_changed
from wise_tally.org.models import Workspace
from wise_tally.process.models import Category, Stage, StageRule


@dataclass(frozen=True)
class StageEdit:
    """What a stage shall be; `typical_days_hundredths` None for none."""

    stage: Stage
    name: str
    probability_bp: int
    category: Category | None
    typical_days_hundredths: int | None


@dataclass(frozen=True)
class RuleInForce:
    """What holds for a stage now, empty cells filled with what held before."""

    probability_bp: int
    category: Category | None
    typical_days_hundredths: int | None


def rule_in_force(stage: Stage, at: datetime) -> RuleInForce:
    """The rule of a stage that holds at a moment; the base columns where there are no dated rules."""
    held = RuleInForce(stage.probability_bp, stage.category, stage.typical_days_hundredths)
    for place, rule in enumerate(stage.rules.select_related("category").order_by("effective_at")):
        if place and rule.effective_at > at:
            break
        days = rule.typical_days_hundredths
        held = RuleInForce(
            rule.probability_bp, rule.category or held.category, held.typical_days_hundredths if days is None else days
        )
    return held


@transaction.atomic
def set_stages(viewer: Viewer, edits: list[StageEdit], from_on: date, now: datetime) -> int:
    """Write names at once and changed rules from a day on; returns the number of stages changed.

    Today means from this moment on; a later day from its first moment. What held before stays readable.
    """
    viewer.require(May.SET_RULES)
    zone = ZoneInfo(Workspace.current().time_zone)
    today = now.astimezone(zone).date()
    moment = now.replace(microsecond=0) if from_on <= today else datetime.combine(from_on, time(), zone).astimezone(UTC)
    changed = 0
    for edit in edits:
        held = rule_in_force(edit.stage, moment)
        wanted = RuleInForce(edit.probability_bp, edit.category, edit.typical_days_hundredths)
        if edit.name != edit.stage.name:
            Stage.objects.filter(pk=edit.stage.pk).update(name=edit.name)
        if wanted != held:
            _write_rule(edit.stage, wanted, moment)
        if wanted != held or edit.name != edit.stage.name:
            changed += 1
            audit(viewer, "stage set", f"{edit.stage.key} {edit.probability_bp / 100:g} % from {from_on}", now)
    if changed:
        ground_changed()
    return changed


def _write_rule(stage: Stage, rule: RuleInForce, moment: datetime) -> None:
    columns = {
        "probability_bp": rule.probability_bp,
        "category": rule.category,
        "typical_days_hundredths": rule.typical_days_hundredths,
    }
    if not stage.rules.exists():
        base = {name: getattr(stage, name) for name in columns}
        StageRule.objects.create(stage=stage, effective_at=datetime.combine(BEGINNING, time(), UTC), **base)
    StageRule.objects.update_or_create(stage=stage, effective_at=moment, defaults=columns)


@transaction.atomic
def move_stage(viewer: Viewer, stage: Stage, step: int, now: datetime) -> None:
    """Move an open stage one place up (-1) or down (1) among the open stages of its process."""
    viewer.require(May.SET_RULES)
    stages = list(stage.process.stages.filter(kind="open").order_by("position", "key"))
    place = stages.index(stage)
    other = place + step
    if not 0 <= other < len(stages):
        return
    positions = sorted(s.position for s in stages)
    stages[place], stages[other] = stages[other], stages[place]
    for position, item in zip(positions, stages, strict=True):
        Stage.objects.filter(pk=item.pk).update(position=position)
    audit(viewer, "stage moved", f"{stage.key} by {step}", now)
    ground_changed()
