"""Tallies and dashboards. A tally is kept as the query by which its page is asked, and so is a tile's own scope."""

from django.db import models

from wise_tally.domain.org.fields import KeyField
from wise_tally.domain.org.models import Person


class Tally(models.Model):
    """A saved question: a measure, a breakdown, a scope, a way to draw it."""

    key = KeyField()
    name = models.CharField(max_length=200)
    owner = models.ForeignKey(Person, models.CASCADE, related_name="tallies")
    shared = models.BooleanField(default=False)
    query = models.CharField(max_length=2_000)


class Dashboard(models.Model):
    """Tallies side by side. `audience` opens it to more people than its owner: all, a role or a team (by identifier)."""

    key = KeyField()
    name = models.CharField(max_length=200)
    owner = models.ForeignKey(Person, models.CASCADE, related_name="dashboards")
    audience = models.CharField(max_length=80, blank=True)
    # Whether those it is for begin with it.
    starts = models.BooleanField(default=False)
    # Raised by every change, so that one made on an old state is noticed.
    number = models.PositiveIntegerField(default=0)


class Tile(models.Model):
    """A tally's place on a dashboard: `tally` is its identifier, of a kept or a shipped one; `wide` takes two columns."""

    dashboard = models.ForeignKey(Dashboard, models.CASCADE, related_name="tiles")
    place = models.PositiveSmallIntegerField()
    tally = models.CharField(max_length=64)
    wide = models.BooleanField(default=False)

    class Meta:
        unique_together = [("dashboard", "place")]
