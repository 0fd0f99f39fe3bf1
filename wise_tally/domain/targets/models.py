"""Quotas and calls."""

from django.db import models

from wise_tally.domain.org.fields import DayField, KeyField, MomentField
from wise_tally.domain.org.models import Person


class Metric(models.TextChoices):
    """What a target counts."""

    WON_AMOUNT = "won_amount", "won amount"
    WON_DEALS = "won_deals", "won deals"
    MARGIN = "margin", "margin"
    QUANTITY = "quantity", "quantity"
    ACTIVITIES = "activities", "activities"


MONEY_METRICS = (Metric.WON_AMOUNT, Metric.MARGIN)


class Quota(models.Model):
    """A target of a subject for a span of days; value in minor units for money, hundredths otherwise.

    Rows of the same span with another `set_at` are versions of one; none is ever altered.
    """

    subject = models.CharField(max_length=10)
    subject_key = models.CharField(max_length=64, blank=True)
    metric = models.CharField(max_length=10, choices=Metric.choices)
    starts_on = DayField()
    ends_on = DayField()
    value = models.BigIntegerField()
    product_group = models.CharField(max_length=10_000, blank=True)
    deal_type = models.CharField(max_length=10_000, blank=True)
    source = models.CharField(max_length=10_000, blank=True)
    activity_kind = models.CharField(max_length=10, blank=True)
    set_at = MomentField(null=True)


class Call(models.Model):
    """What somebody says a period will bring, with a reason and a time."""

    subject = models.CharField(max_length=10)
    subject_key = models.CharField(max_length=64, blank=True)
    starts_on = DayField()
    ends_on = DayField()
    made_at = MomentField()
    made_by = models.ForeignKey(Person, models.PROTECT, related_name="+")
    amount_minor = models.BigIntegerField()
    reason = models.TextField(blank=True)


class QuotaHold(models.Model):
    """A cell of the quota plan that spreading leaves as it is."""

    subject = models.CharField(max_length=10)
    subject_key = models.CharField(max_length=64, blank=True)
    metric = models.CharField(max_length=10, choices=Metric.choices)
    starts_on = DayField()
    ends_on = DayField()

    class Meta:
        unique_together = [("subject", "subject_key", "metric", "starts_on", "ends_on")]


class SeasonCurve(models.Model):
    """Twelve percentages of the year, in basis points that sum to 10 000, from the first fiscal month on."""

    key = KeyField()
    name = models.CharField(max_length=200, unique=True)
    months_bp = models.JSONField()


class CustomPeriod(models.Model):
    """A span with a name, such as a campaign, that quotas may be set for."""

    key = KeyField()
    name = models.CharField(max_length=200)
    starts_on = DayField()
    ends_on = DayField()


class QuotaChange(models.Model):
    """One saved change of the plan: what each cell was and became, so that it can be undone."""

    at = MomentField()
    person = models.ForeignKey(Person, models.SET_NULL, null=True, related_name="+")
    what = models.CharField(max_length=200)
    cells = models.JSONField()
    undone = models.BooleanField(default=False)


class CommissionStatement(models.Model):
    """A statement of commissions as it was handed out; what changed since is read against its lines."""

    subject = models.CharField(max_length=7)
    subject_key = models.CharField(max_length=64)
    starts_on = DayField()
    ends_on = DayField()
    issued_at = MomentField()
    issued_by = models.CharField(max_length=64)
    lines = models.JSONField()

    class Meta:
        unique_together = [("subject", "subject_key", "starts_on", "ends_on", "issued_at")]
