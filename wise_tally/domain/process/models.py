"""Sales processes: stages with dated rules, and forecast categories."""

from django.db import models

from wise_tally.domain.org.fields import KeyField, MomentField
from wise_tally.domain.org.pick_lists import PickListEntry


class Category(models.Model):
    """A forecast category: rank 1 is the surest."""

    key = KeyField()
    name = models.CharField(max_length=200)
    rank = models.IntegerField()
    counted = models.BooleanField(default=True)


class Process(PickListEntry):
    """A sales process; no new deals begin in a retired one."""

    key = KeyField()
    name = models.CharField(max_length=200)


class StageKind(models.TextChoices):
    """What a stage makes of a deal."""

    OPEN = "open", "open"
    WON = "won", "won"
    LOST = "lost", "lost"


class Stage(models.Model):
    """A stage; probability, category and typical days hold only where there are no dated rules."""

    key = KeyField()
    process = models.ForeignKey(Process, models.PROTECT, related_name="stages")
    name = models.CharField(max_length=200)
    position = models.IntegerField()
    kind = models.CharField(max_length=4, choices=StageKind.choices)
    probability_bp = models.IntegerField()
    category = models.ForeignKey(Category, models.PROTECT, null=True, related_name="+")
    typical_days_hundredths = models.IntegerField(null=True)
    own_probability = models.BooleanField(default=True)
    required = models.BooleanField(default=False)
    retired = models.BooleanField(default=False)


class StageRule(models.Model):
    """What holds for a stage from a moment on; an empty category or typical days repeats what held before."""

    stage = models.ForeignKey(Stage, models.CASCADE, related_name="rules")
    effective_at = MomentField()
    probability_bp = models.IntegerField()
    category = models.ForeignKey(Category, models.PROTECT, null=True, related_name="+")
    typical_days_hundredths = models.IntegerField(null=True)

    class Meta:
        unique_together = [("stage", "effective_at")]


class DealType(PickListEntry):
    """A type of deal with the group it counts in, such as new business or existing; deals carry the name."""

    key = KeyField()
    name = models.CharField(max_length=200, unique=True)
    group = models.CharField(max_length=200, blank=True)


class Source(PickListEntry):
    """Where a lead or a deal came from; deals and leads carry the name."""

    key = KeyField()
    name = models.CharField(max_length=200, unique=True)


class LeadStep(PickListEntry):
    """A step that leads take before they are qualified or dropped; longer than its typical days is long."""

    key = KeyField()
    name = models.CharField(max_length=200)
    position = models.IntegerField()
    typical_days_hundredths = models.IntegerField(null=True)


class LostReason(PickListEntry):
    """Why deals are lost; revisions carry the name."""

    key = KeyField()
    name = models.CharField(max_length=200, unique=True)


class EntryCheck(models.Model):
    """One line of what is asked before a deal enters a stage, in the check language."""

    stage = models.ForeignKey(Stage, models.CASCADE, related_name="checks")
    position = models.IntegerField()
    text = models.CharField(max_length=10_000)

    class Meta:
        unique_together = [("stage", "position")]


class StageGuide(models.Model):
    """What helps while a deal is in a stage; checklist and activities hold one entry a line."""

    stage = models.OneToOneField(Stage, models.CASCADE, related_name="guide")
    text = models.TextField(blank=True)
    checklist = models.TextField(blank=True)
    activities = models.TextField(blank=True)


class StageFile(models.Model):
    """A file that helps in a stage."""

    stage = models.ForeignKey(Stage, models.CASCADE, related_name="files")
    name = models.CharField(max_length=200)
    content = models.BinaryField()

    class Meta:
        unique_together = [("stage", "name")]


class Document(models.TextChoices):
    """What is made from a deal's lines and goes with a notice."""

    NONE = "", "nothing"
    OFFER = "offer", "quote (printable)"
    INVOICE = "invoice", "a draft invoice"


class StageNotice(models.Model):
    """A message sent once a deal has entered a stage; recipients hold one entry a line."""

    key = KeyField()
    stage = models.ForeignKey(Stage, models.CASCADE, related_name="notices")
    recipients = models.TextField()
    subject = models.CharField(max_length=200)
    body = models.TextField(blank=True)
    document = models.CharField(max_length=7, choices=Document.choices, blank=True)
