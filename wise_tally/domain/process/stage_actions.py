"""The list of a process's stages: added, put in order, retired, restored; processes themselves."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import Max

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.records import new_key
from wise_tally.domain.process.categories import ensure_categories
from wise_tally.domain.process.models import Category, Process, Stage, StageGuide, StageKind
from wise_tally.domain.refusals import WriteConflict

CLOSED_PROBABILITY = {StageKind.WON: 10_000, StageKind.LOST: 0}
# A neutral start: name, kind, probability in basis points, category, typical days.
STARTER = (
    ("Enquiry", StageKind.OPEN, 1_000, "early", 14),
    ("Need understood", StageKind.OPEN, 3_000, "early", 21),
    ("Offer", StageKind.OPEN, 6_000, "best_case", 30),
    ("Terms", StageKind.OPEN, 8_000, "commit", 14),
)
CLOSED = (("Won", StageKind.WON, 10_000, "", 0), ("Lost", StageKind.LOST, 0, "", 0))


class NameTaken(Exception):
    """A process, or a stage of the process, has this name; `retired` is that stage where it may be restored."""

    def __init__(self, taken: Process | Stage) -> None:
        self.retired = taken if isinstance(taken, Stage) and taken.retired else None
        words = "is retired; restore it instead" if self.retired else "already exists. Choose another name"
        super().__init__(f"A {taken._meta.verbose_name} named “{taken.name}” {words}.")


@dataclass(frozen=True)
class NewStage:
    """A stage to be added; money and days as kept."""

    name: str
    kind: str
    probability_bp: int
    category: Category | None
    typical_days_hundredths: int | None


def _refuse_taken(name: str, besides: Process | None = None) -> None:
    """Raises NameTaken where another process has a name; upper and lower case are the same."""
    taken = Process.objects.filter(name__iexact=name).first()
    if taken is not None and taken != besides:
        raise NameTaken(taken)


@transaction.atomic
def add_process(viewer: Viewer, name: str, from_starter: bool, now: datetime) -> Process:
    """A process with its won and lost stage, and the neutral starter's open stages where asked; raises NameTaken."""
    viewer.require(May.SET_RULES)
    _refuse_taken(name)
    ensure_categories()
    process = Process.objects.create(key=new_key(Process, name), name=name)
    categories = {category.key: category for category in Category.objects.all()}
    for index, (label, kind, probability, category, days) in enumerate((*(STARTER if from_starter else ()), *CLOSED)):
        Stage.objects.create(
            key=new_key(Stage, label, f"{process.key[:20]}_"),
            process=process,
            name=label,
            position=index + 1,
            kind=kind,
            probability_bp=probability,
            category=categories.get(category),
            typical_days_hundredths=days * 100 or None,
        )
    audit(viewer, "process added", f"{name} ({process.key})", now, after=name)
    reference_changed()
    return process


@transaction.atomic
def copy_process(viewer: Viewer, source: Process, name: str, now: datetime) -> Process:
    """A process with the stages of another as they are today, their rules, entry checks and guides; retired ones left out.

    Raises NameTaken.
    """
    viewer.require(May.SET_RULES)
    _refuse_taken(name)
    process = Process.objects.create(key=new_key(Process, name), name=name)
    for stage in source.stages.filter(retired=False).order_by("position", "key"):
        rule = stage.rules.filter(effective_at__lte=now).order_by("effective_at").last()
        copied = Stage.objects.create(
            key=new_key(Stage, stage.name, f"{process.key[:20]}_"),
            process=process,
            name=stage.name,
            position=stage.position,
            kind=stage.kind,
            probability_bp=rule.probability_bp if rule else stage.probability_bp,
            category=_latest(stage, "category", now),
            typical_days_hundredths=_latest(stage, "typical_days_hundredths", now),
            own_probability=stage.own_probability,
            required=stage.required,
        )
        for check in stage.checks.all():
            check.pk, check.stage = None, copied
            check.save()
        if guide := StageGuide.objects.filter(stage=stage).first():
            guide.pk, guide.stage = None, copied
            guide.save()
    audit(viewer, "process copied", f"{name} ({process.key})", now, source.name, name)
    reference_changed()
    return process


def _latest(stage: Stage, name: str, now: datetime) -> Any:
    """What holds today of a stage where rules may leave it as it was before."""
    values = [getattr(rule, name) for rule in stage.rules.filter(effective_at__lte=now).order_by("-effective_at")]
    return next((value for value in values if value is not None), getattr(stage, name))


@transaction.atomic
def set_process_retired(viewer: Viewer, process: Process, retired: bool, now: datetime) -> None:
    """Retire a process (its deals go on, no new ones begin) or bring it back; raises WriteConflict for the last one."""
    viewer.require(May.SET_RULES)
    if retired and not Process.objects.filter(retired=False).exclude(pk=process.pk).exists():
        raise WriteConflict(f"{process.name} is the only process. Add another one first.")
    Process.objects.filter(pk=process.pk).update(retired=retired)
    audit(viewer, "process retired" if retired else "process restored", f"{process.name} ({process.key})", now)
    reference_changed()


@transaction.atomic
def rename_process(viewer: Viewer, process: Process, name: str, now: datetime) -> None:
    """Another name; names are undated. Raises NameTaken."""
    viewer.require(May.SET_RULES)
    _refuse_taken(name, process)
    before = process.name
    Process.objects.filter(pk=process.pk).update(name=name)
    audit(viewer, "process renamed", process.key, now, before, name)
    reference_changed()


@transaction.atomic
def add_stage(viewer: Viewer, process: Process, new: NewStage, now: datetime) -> Stage:
    """A stage after the last of its kind; raises NameTaken where the process has one of that name."""
    viewer.require(May.SET_RULES)
    taken = process.stages.filter(name__iexact=new.name).order_by("retired").first()
    if taken is not None:
        raise NameTaken(taken)
    last = process.stages.filter(kind=new.kind).aggregate(last=Max("position"))["last"]
    if last is None:
        last = process.stages.aggregate(last=Max("position"))["last"] or 0
    for later in process.stages.filter(position__gt=last):
        Stage.objects.filter(pk=later.pk).update(position=later.position + 1)
    stage = Stage.objects.create(
        key=new_key(Stage, new.name, f"{process.key[:20]}_"),
        process=process,
        name=new.name,
        position=last + 1,
        kind=new.kind,
        probability_bp=CLOSED_PROBABILITY.get(StageKind(new.kind), new.probability_bp),
        category=new.category,
        typical_days_hundredths=new.typical_days_hundredths,
    )
    audit(viewer, "stage added", f"{new.name} ({stage.key}) in {process.name}", now, after=new.name)
    reference_changed()
    return stage


@transaction.atomic
def set_retired(viewer: Viewer, stage: Stage, retired: bool, now: datetime) -> None:
    """Retire a stage (its deals stay until they move) or restore it; raises WriteConflict for the last of a closed kind."""
    viewer.require(May.SET_RULES)
    if retired and stage.kind == StageKind.WON:
        raise WriteConflict("The won stage cannot be retired.")
    others = stage.process.stages.filter(kind=stage.kind, retired=False).exclude(pk=stage.pk)
    if retired and stage.kind == StageKind.LOST and not others.exists():
        raise WriteConflict("A process needs at least one lost stage. Add another one first.")
    if stage.retired == retired:
        return
    Stage.objects.filter(pk=stage.pk).update(retired=retired)
    audit(viewer, "stage retired" if retired else "stage restored", f"{stage.name} ({stage.key})", now)
    reference_changed()


@transaction.atomic
def order_stages(viewer: Viewer, process: Process, keys: list[str], now: datetime) -> None:
    """Put the unretired open stages in the order of `keys`; retired ones keep their place among the positions."""
    viewer.require(May.SET_RULES)
    stages = {stage.key: stage for stage in process.stages.filter(kind=StageKind.OPEN, retired=False)}
    if sorted(keys) != sorted(stages):
        raise WriteConflict("The order must name each open stage once; load the page again, the stages have changed.")
    before = ", ".join(stage.name for stage in sorted(stages.values(), key=lambda s: (s.position, s.key)))
    positions = sorted(stage.position for stage in stages.values())
    for position, key in zip(positions, keys, strict=True):
        Stage.objects.filter(pk=stages[key].pk).update(position=position)
    audit(viewer, "stages ordered", process.name, now, before, ", ".join(stages[key].name for key in keys))
    reference_changed()
