"""Sales processes: stages with dated rules, and forecast categories."""

from django.db import models

from wise_tally.org.fields import KeyField, MomentField


class Category(models.Model):
    """A forecast category: rank 1 is the surest."""

    key = KeyField()
    name = models.CharField(max_length=200)
    rank = models.IntegerField()
    counted = models.BooleanField(default=True)


class Process(models.Model):
    """A sales process."""

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
