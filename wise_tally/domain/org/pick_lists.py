"""Entries of pick lists: retired ones are no longer offered, but stay named wherever they were used."""

from typing import Self

from django.db import models
from django.db.models import Q


class Entries(models.QuerySet):  # type: ignore[type-arg]
    """Entries of a pick list."""

    def offered(self, *in_use: str) -> Self:
        """What a form offers: entries not retired, and those whose identifiers the record at hand already holds."""
        return self.filter(Q(retired=False) | Q(key__in=in_use))


class PickListEntry(models.Model):
    """An entry of a pick list that can be retired and brought back."""

    retired = models.BooleanField(default=False)
    objects = Entries.as_manager()

    class Meta:
        abstract = True
