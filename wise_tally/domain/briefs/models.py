"""Saved briefs, what people put aside, the bounds of findings, and who has the brief by mail."""

from django.db import models

from wise_tally.domain.org.fields import DayField, KeyField, MomentField
from wise_tally.domain.org.models import Person


class KeptBrief(models.Model):
    """What a brief said on a day: frozen when it was sent or a meeting kept. `content` is its figures and findings as JSON."""

    key = KeyField()
    by = models.ForeignKey(Person, models.CASCADE, related_name="briefs")
    # Whose deals it counted, as the filter line writes it: a person, a team, or empty for all that `by` may see.
    who = models.CharField(max_length=80, blank=True)
    period = models.CharField(max_length=32)
    as_of = DayField()
    kept_at = MomentField()
    why = models.CharField(max_length=8, choices=[("meeting", "meeting"), ("mail", "mail")])
    content = models.TextField()

    class Meta:
        # One of a day, whoever keeps it again.
        unique_together = [("by", "who", "as_of", "why")]


class PutAside(models.Model):
    """A finding (by kind and subject) that somebody put aside, with the money at stake then: a material change brings it back."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="put_aside")
    finding = models.CharField(max_length=200)
    at = MomentField()
    until = DayField(null=True)
    reason = models.CharField(max_length=500, blank=True)
    amount_minor = models.BigIntegerField()
    words = models.CharField(max_length=1_000, blank=True)

    class Meta:
        unique_together = [("person", "finding")]


class Bound(models.Model):
    """A bound of findings that the firm set otherwise than usual."""

    name = models.CharField(max_length=40, unique=True)
    value = models.FloatField()


class Digest(models.Model):
    """The brief by mail: on which weekdays (“0,4”, Monday 0), from which hour, of whom; `token` unsubscribes without signing in."""

    person = models.OneToOneField(Person, models.CASCADE, related_name="digest")
    days = models.CharField(max_length=13)
    hour = models.PositiveSmallIntegerField(default=7)
    who = models.CharField(max_length=80, blank=True)
    token = models.CharField(max_length=64, unique=True)
    # The day for which it was sent last: claimed before it goes out, so that none is sent twice.
    last_on = DayField(null=True)
