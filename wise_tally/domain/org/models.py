"""The organisation: settings, people, teams and territories, with their dated rows; the book's revision number."""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from copy import copy
from decimal import Decimal
from typing import Any

from babel.numbers import get_currency_precision
from django.conf import settings
from django.db import models

from wise_tally.domain.org.fields import DayField, KeyField, MomentField
from wise_tally.domain.org.pick_lists import PickListEntry


class Role(models.TextChoices):
    """What a person may do."""

    ADMIN = "admin", "administrator"
    MANAGER = "manager", "manager"
    REP = "rep", "rep"
    VIEWER = "viewer", "viewer"


USUAL_CUSTOMER_SIZES = "small\nmedium: 20000\nlarge: 100000"


held_workspace: ContextVar["Workspace | None"] = ContextVar("held_workspace", default=None)


class Workspace(models.Model):
    """The one row of settings."""

    organisation = models.CharField(max_length=200, default="Organisation")
    currency = models.CharField(max_length=3, default="EUR")
    time_zone = models.CharField(max_length=64, default="UTC")
    fiscal_year_start_month = models.PositiveSmallIntegerField(default=1)
    reps_see_team = models.BooleanField(default=False)
    all_see_unowned = models.BooleanField(default=False)
    # Classes of customers by their sales of twelve months, one a line: a name, and from the second on “: ” and where it begins.
    not_reached_message = models.TextField(blank=True)
    customer_sizes = models.TextField(default=USUAL_CUSTOMER_SIZES)
    # How numbers are written (the sign before decimals), and dates that are typed in numbers alone.
    decimal_sign = models.CharField(max_length=1, default=".", choices=[(".", "1,250.00"), (",", "1.250,00")])
    day_order = models.CharField(max_length=3, default="dmy", choices=[("dmy", "28/11/2026"), ("mdy", "11/28/2026")])
    # The weekday by which calls are due, Monday 0; None where nobody asks for them.
    calls_due_on = models.PositiveSmallIntegerField(null=True)

    @classmethod
    def current(cls) -> "Workspace":
        """The workspace, with the shipped settings where none are kept yet."""
        return copy(held_workspace.get()) or cls.objects.first() or cls(pk=1)

    @classmethod
    @contextmanager
    def held(cls) -> Iterator["Workspace"]:
        """The workspace, read once for all that is asked inside until it is saved."""
        before = held_workspace.set(cls.current())
        try:
            yield cls.current()
        finally:
            held_workspace.reset(before)

    def save(self, *args: Any, **options: Any) -> None:
        """Keep the settings; from now on they are read anew."""
        held_workspace.set(None)
        super().save(*args, **options)

    def size_classes(self) -> list[tuple[str, int]]:
        """Names of the classes of customers and where each begins, in minor units, the smallest first."""
        scale = 10 ** get_currency_precision(self.currency)
        lines = (line.rpartition(": ") for line in self.customer_sizes.splitlines())
        classes = [(name, int(Decimal(begin) * scale)) if name else (begin, 0) for name, _, begin in lines]
        return sorted(classes, key=lambda one: one[1])


class BookNumber(models.Model):
    """What the store of books compares: every write raises `number`.

    `ground` changes with small tables, `epoch` with old rows, `beside` with what belongs to deals beside revisions.
    """

    number = models.PositiveBigIntegerField(default=0)
    ground = models.PositiveBigIntegerField(default=0)
    epoch = models.PositiveBigIntegerField(default=0)
    beside = models.PositiveBigIntegerField(default=0)


class Team(PickListEntry):
    """A team; `parent` holds only where there are no dated parents."""

    key = KeyField()
    name = models.CharField(max_length=200)
    parent = models.ForeignKey("self", models.PROTECT, null=True, blank=True, related_name="+")
    manager = models.ForeignKey("Person", models.PROTECT, null=True, blank=True, related_name="managed_teams")


class TeamParent(models.Model):
    """The team above from a day on."""

    team = models.ForeignKey(Team, models.CASCADE, related_name="parents")
    parent = models.ForeignKey(Team, models.PROTECT, null=True, related_name="+")
    from_on = DayField()

    class Meta:
        unique_together = [("team", "from_on")]


class Territory(PickListEntry):
    """A territory; `parent` holds only where there are no dated parents."""

    key = KeyField()
    name = models.CharField(max_length=200)
    parent = models.ForeignKey("self", models.PROTECT, null=True, blank=True, related_name="+")


class TerritoryParent(models.Model):
    """The territory above from a day on."""

    territory = models.ForeignKey(Territory, models.CASCADE, related_name="parents")
    parent = models.ForeignKey(Territory, models.PROTECT, null=True, related_name="+")
    from_on = DayField()

    class Meta:
        unique_together = [("territory", "from_on")]


class Person(models.Model):
    """Somebody of the firm; `team` holds only where there are no dated memberships."""

    key = KeyField()
    name = models.CharField(max_length=200)
    email = models.CharField(max_length=10_000, blank=True)
    role = models.CharField(max_length=10, choices=Role.choices, blank=True)
    team = models.ForeignKey(Team, models.PROTECT, null=True, blank=True, related_name="+")
    active_from = DayField(null=True)
    active_to = DayField(null=True)
    commission_rate_bp = models.IntegerField(null=True)
    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="person")
    # A password that somebody else knows is changed before anything else.
    must_change_password = models.BooleanField(default=False)
    # Sign-ins of an earlier round have ended.
    session_round = models.PositiveIntegerField(default=0)


class Opening(models.Model):
    """A team opened to a viewer; a viewer without any reads the whole organisation."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="openings")
    team = models.ForeignKey(Team, models.PROTECT, related_name="+")

    class Meta:
        unique_together = [("person", "team")]


class Membership(models.Model):
    """The team of a person from a day on."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="memberships")
    team = models.ForeignKey(Team, models.PROTECT, related_name="+")
    from_on = DayField()

    class Meta:
        unique_together = [("person", "from_on")]


class CommissionRate(models.Model):
    """The commission rate of a person or partner from a day on, in basis points."""

    subject = models.CharField(max_length=10)
    subject_key = models.CharField(max_length=64)
    from_on = DayField()
    rate_bp = models.IntegerField()

    class Meta:
        unique_together = [("subject", "subject_key", "from_on")]


class RateAboveQuota(models.Model):
    """What a person earns from a day on for the part of the won amount above the quota, in basis points; 0 ends it."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="rates_above")
    from_on = DayField()
    rate_bp = models.IntegerField()

    class Meta:
        unique_together = [("person", "from_on")]


class Meeting(models.Model):
    """A meeting that somebody held: about the forecast of all, or with one person (by identifier); what was noted."""

    by = models.ForeignKey(Person, models.CASCADE, related_name="meetings")
    person_key = models.CharField(max_length=64, blank=True)
    held_on = DayField()
    notes = models.TextField(blank=True)

    class Meta:
        unique_together = [("by", "person_key", "held_on")]


class AgreedAction(models.Model):
    """What was agreed with a person in a one-to-one: carried to the next ones until it is done.

    `finding` is the point of the agenda that it came from, by its kind and subject; empty where it came from none.
    """

    key = KeyField()
    person_key = models.CharField(max_length=64)
    by = models.ForeignKey(Person, models.CASCADE, related_name="+")
    agreed_on = DayField()
    text = models.CharField(max_length=10_000)
    due_on = DayField(null=True)
    done_on = DayField(null=True)
    finding = models.CharField(max_length=200, blank=True)


class ApiToken(models.Model):
    """A personal token for the read-only interface or the calendar; only its hash is kept, and it shows what its person sees."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=200)
    digest = models.CharField(max_length=64, unique=True)
    # A calendar address opens the calendar alone, a token of the interface nothing else but that.
    use = models.CharField(max_length=9, default="interface", choices=[("interface", "API"), ("calendar", "calendar")])
    made_at = MomentField()
    used_at = MomentField(null=True)


class Preference(models.Model):
    """How somebody likes a page drawn, such as the columns of a table."""

    person = models.ForeignKey(Person, models.CASCADE, related_name="preferences")
    name = models.CharField(max_length=64)
    value = models.CharField(max_length=10_000)

    class Meta:
        unique_together = [("person", "name")]


class AuditEntry(models.Model):
    """Who did what, when; what was before and what after, where a value was replaced."""

    at = MomentField()
    person = models.ForeignKey(Person, models.SET_NULL, null=True, related_name="+")
    # Who it was, also once the person is taken away.
    who = models.CharField(max_length=300, blank=True)
    action = models.CharField(max_length=60)
    detail = models.TextField(blank=True)
    before = models.TextField(blank=True)
    after = models.TextField(blank=True)

    class Meta:
        # The history of a deal reads its own entries.
        indexes = [models.Index(fields=["detail"], name="audit_detail")]


class OutboxMessage(models.Model):
    """A message of the simulated mail: kept here instead of being sent."""

    at = MomentField()
    to = models.CharField(max_length=10_000)
    subject = models.CharField(max_length=200)
    body = models.TextField(blank=True)
    document_name = models.CharField(max_length=200, blank=True)
    document = models.TextField(blank=True)
    deal_key = models.CharField(max_length=64, blank=True)


class SentForm(models.Model):
    """A form that somebody sent, by its mark, and the address it led to: none while it is being done."""

    mark = models.CharField(max_length=64, unique=True)
    sent_at = models.DateTimeField(db_index=True)
    led_to = models.CharField(max_length=4000, blank=True)
