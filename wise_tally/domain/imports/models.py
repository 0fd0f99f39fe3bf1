"""Imports of tables from elsewhere: what was sent, how its columns were matched, how it went."""

from django.db import models

from wise_tally.domain.org.fields import MomentField
from wise_tally.domain.org.models import Person


class ImportStatus(models.TextChoices):
    """How far an import is."""

    MATCHING = "matching", "columns not matched yet"
    RUNNING = "running", "running"
    REFUSED = "refused", "errors, nothing imported"
    DONE = "done", "taken"
    UNDONE = "undone", "undone"


class ImportRun(models.Model):
    """One file on its way in; its content and journal stand in the work folder under the row's number."""

    kind = models.CharField(max_length=20)
    file_name = models.CharField(max_length=200)
    at = MomentField()
    person = models.ForeignKey(Person, models.SET_NULL, null=True, related_name="+")
    status = models.CharField(max_length=8, choices=ImportStatus.choices, default=ImportStatus.MATCHING)
    header = models.JSONField(default=list)
    matching = models.JSONField(default=dict)
    report = models.JSONField(default=dict)
