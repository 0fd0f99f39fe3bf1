"""Changes of stages: dated rules that keep what held before."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from zoneinfo import ZoneInfo

from django.db import transaction

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import BEGINNING, audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.org.records import as_text
from wise_tally.domain.process.models import Category, Stage, StageRule
from wise_tally.domain.refusals import WriteConflict


@dataclass(frozen=True)
class StageEdit:
    """What a stage shall be; `typical_days_hundredths` None for none."""

    stage: Stage
    name: str
    probability_bp: int
    category: Category | None
    typical_days_hundredths: int | None
    own_probability: bool = True
    required: bool = False


@dataclass(frozen=True)
class RuleInForce:
    """What holds for a stage now, empty cells filled with what held before."""

    probability_bp: int
    category: Category | None
    typical_days_hundredths: int | None


UNDATED = ("name", "own_probability", "required")


def asdict_of(rule: RuleInForce) -> dict[str, object]:
    """The parts of a rule by name."""
    return {name: getattr(rule, name) for name in RuleInForce.__dataclass_fields__}


def rule_in_force(stage: Stage, moment: datetime) -> RuleInForce:
    """The rule of a stage that holds at a moment; the base columns where there are no dated rules."""
    in_force = RuleInForce(stage.probability_bp, stage.category, stage.typical_days_hundredths)
    for index, rule in enumerate(stage.rules.select_related("category").order_by("effective_at")):
        if index and rule.effective_at > moment:
            break
        days = rule.typical_days_hundredths
        in_force = RuleInForce(
            rule.probability_bp,
            rule.category or in_force.category,
            in_force.typical_days_hundredths if days is None else days,
        )
    return in_force


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
        rule = rule_in_force(edit.stage, moment)
        wanted = RuleInForce(edit.probability_bp, edit.category, edit.typical_days_hundredths)
        saved = {name: getattr(edit.stage, name) for name in UNDATED}
        undated = {name: getattr(edit, name) for name in UNDATED}
        if undated != saved:
            Stage.objects.filter(pk=edit.stage.pk).update(**undated)
        if wanted != rule:
            _write_rule(edit.stage, wanted, moment)
        if wanted != rule or undated != saved:
            changed += 1
            before, after = as_text({**saved, **asdict_of(rule)}), as_text({**undated, **asdict_of(wanted)})
            audit(viewer, "stage set", f"{edit.stage.name} ({edit.stage.key}) from {from_on}", now, before, after)
    if changed:
        reference_changed()
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
def drop_future_rule(viewer: Viewer, rule: StageRule, now: datetime) -> None:
    """Take back a rule that is not in force yet; raises WriteConflict for any other."""
    viewer.require(May.SET_RULES)
    if rule.effective_at <= now:
        raise WriteConflict("This setting has already been in effect and cannot be deleted. Set a new value instead.")
    audit(viewer, "stage rule taken back", f"{rule.stage.name} ({rule.stage.key})", now, before=str(rule.effective_at))
    rule.delete()
    reference_changed()
