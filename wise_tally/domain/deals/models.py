"""Accounts, deals and their revisions, and what belongs to them. Money is in minor units."""

from django.db import models

from wise_tally.domain.org.fields import DayField, KeyField, MomentField
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.org.pick_lists import PickListEntry
from wise_tally.domain.process.models import Category, LeadStep, Process, Stage


class Partner(PickListEntry):
    """A reseller or consultant who brings deals."""

    key = KeyField()
    name = models.CharField(max_length=200)
    kind = models.CharField(max_length=10_000, blank=True)
    territory = models.ForeignKey(Territory, models.PROTECT, null=True, related_name="+")
    commission_rate_bp = models.IntegerField(null=True)


class Product(PickListEntry):
    """Something sold."""

    key = KeyField()
    name = models.CharField(max_length=200)
    product_group = models.CharField(max_length=10_000, blank=True)
    unit_price_minor = models.BigIntegerField(null=True)
    unit_cost_minor = models.BigIntegerField(null=True)


class Account(models.Model):
    """A customer."""

    key = KeyField()
    name = models.CharField(max_length=200)
    kind = models.CharField(max_length=12, blank=True)
    territory = models.ForeignKey(Territory, models.PROTECT, null=True, related_name="+")
    owner = models.ForeignKey(Person, models.PROTECT, null=True, related_name="+")
    industry = models.CharField(max_length=10_000, blank=True)
    country = models.CharField(max_length=10_000, blank=True)


class Contact(models.Model):
    """Somebody at a customer's."""

    key = KeyField()
    account = models.ForeignKey(Account, models.PROTECT, related_name="contacts")
    name = models.CharField(max_length=200)
    email = models.CharField(max_length=10_000, blank=True)
    phone = models.CharField(max_length=10_000, blank=True)
    job_title = models.CharField(max_length=10_000, blank=True)


class Deal(models.Model):
    """A deal's lasting part; its state is in its revisions. `short_form`: it came without its history."""

    key = KeyField()
    name = models.CharField(max_length=200)
    process = models.ForeignKey(Process, models.PROTECT, related_name="deals")
    created_at = MomentField()
    account = models.ForeignKey(Account, models.PROTECT, null=True, related_name="deals")
    contact = models.ForeignKey(Contact, models.PROTECT, null=True, related_name="+")
    partner = models.ForeignKey(Partner, models.PROTECT, null=True, related_name="+")
    deal_type = models.CharField(max_length=10_000, blank=True)
    source = models.CharField(max_length=10_000, blank=True)
    campaign = models.CharField(max_length=10_000, blank=True)
    next_step = models.CharField(max_length=10_000, blank=True)
    next_step_on = DayField(null=True, db_index=True)
    competitor = models.CharField(max_length=200, blank=True)
    amount_from_lines = models.BooleanField(default=False)
    short_form = models.BooleanField(default=False)
    lost_from = models.ForeignKey(Stage, models.PROTECT, null=True, related_name="+")


class DealRevision(models.Model):
    """One full state of a deal from a moment on, never changed afterwards; the order within a deal is that of the rows.

    A change put back at once is `void`, as is the row that records it: both count nowhere. `replaced` holds as text what the
    change replaced beside the state, so that putting it back restores that too.
    """

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="revisions")
    effective_at = MomentField()
    stage = models.ForeignKey(Stage, models.PROTECT, related_name="+", db_index=False)
    amount_minor = models.BigIntegerField()
    expected_close = DayField(null=True)
    owner = models.ForeignKey(Person, models.PROTECT, related_name="+", db_index=False)
    territory = models.ForeignKey(Territory, models.PROTECT, null=True, related_name="+", db_index=False)
    category = models.ForeignKey(Category, models.PROTECT, null=True, related_name="+", db_index=False)
    probability_bp = models.IntegerField(null=True)
    lost_reason = models.CharField(max_length=10_000, blank=True)
    changed_by = models.CharField(max_length=64, blank=True)
    reason = models.CharField(max_length=10_000, blank=True)
    void = models.BooleanField(default=False)
    replaced = models.CharField(max_length=20_000, blank=True)


class DealAnswer(models.Model):
    """The answer to a question that an entry check asked of a deal."""

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="answers")
    question = models.CharField(max_length=10_000)
    answer = models.CharField(max_length=10_000)
    by = models.CharField(max_length=64, blank=True)
    at = MomentField()

    class Meta:
        unique_together = [("deal", "question")]


class DealCredit(models.Model):
    """A person's share of a deal from a day on, in basis points; without a day, always."""

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="credits")
    person = models.ForeignKey(Person, models.PROTECT, related_name="+")
    share_bp = models.IntegerField()
    from_on = DayField(null=True)


class DealContact(models.Model):
    """Somebody at the customer's with a role in a deal."""

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="contacts")
    contact = models.ForeignKey(Contact, models.PROTECT, related_name="deals")
    role = models.CharField(max_length=200)

    class Meta:
        unique_together = [("deal", "contact")]


class DealLine(models.Model):
    """A product in a deal."""

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="lines")
    product = models.ForeignKey(Product, models.PROTECT, related_name="+")
    quantity_10000ths = models.BigIntegerField()
    unit_price_minor = models.BigIntegerField()
    unit_cost_minor = models.BigIntegerField(null=True)
    discount_bp = models.IntegerField(null=True)


class Payment(models.Model):
    """When money of a deal is due."""

    deal = models.ForeignKey(Deal, models.CASCADE, related_name="payments")
    due_on = DayField()
    amount_minor = models.BigIntegerField()
    every = models.CharField(max_length=7, blank=True)
    times = models.IntegerField(null=True)


class Lead(models.Model):
    """Somebody who may become a customer."""

    key = KeyField()
    name = models.CharField(max_length=200)
    source = models.CharField(max_length=10_000, blank=True)
    owner = models.ForeignKey(Person, models.PROTECT, null=True, related_name="+")
    created_at = MomentField()
    status = models.CharField(max_length=9, blank=True)
    deal = models.ForeignKey(Deal, models.PROTECT, null=True, related_name="leads")
    closed_at = MomentField(null=True)
    customer = models.CharField(max_length=200, blank=True)
    email = models.CharField(max_length=200, blank=True)
    phone = models.CharField(max_length=200, blank=True)
    dropped_because = models.CharField(max_length=200, blank=True)
    step = models.ForeignKey(LeadStep, models.PROTECT, null=True, related_name="leads")
    campaign = models.CharField(max_length=200, blank=True)
    score = models.SmallIntegerField(null=True)


class LeadMove(models.Model):
    """A step that a lead took, and who moved it."""

    lead = models.ForeignKey(Lead, models.CASCADE, related_name="moves")
    step = models.ForeignKey(LeadStep, models.PROTECT, related_name="+")
    at = MomentField()
    by = models.CharField(max_length=64, blank=True)

    class Meta:
        unique_together = [("lead", "step", "at")]


class Activity(models.Model):
    """A phone call, meeting, mail, visit or task, done or planned."""

    key = KeyField()
    kind = models.CharField(max_length=10)
    at = MomentField()
    status = models.CharField(max_length=7, blank=True)
    person = models.ForeignKey(Person, models.PROTECT, null=True, related_name="+")
    account = models.ForeignKey(Account, models.PROTECT, null=True, related_name="activities")
    deal = models.ForeignKey(Deal, models.PROTECT, null=True, related_name="activities")
    lead = models.ForeignKey(Lead, models.PROTECT, null=True, related_name="activities")
    subject = models.CharField(max_length=10_000, blank=True)
    repeat = models.CharField(max_length=9, blank=True)

    class Meta:
        # The last contact with every customer is read from the first alone, what people did from the third; the second finds
        # what is planned.
        indexes = [
            models.Index(fields=["account", "kind", "status", "at"], name="activity_contact"),
            models.Index(fields=["status", "at"], name="activity_planned"),
            models.Index(fields=["at", "kind", "status", "person"], name="activity_done"),
        ]


class Note(models.Model):
    """What somebody wrote down about a deal, an account or a lead."""

    key = KeyField()
    at = MomentField()
    person = models.ForeignKey(Person, models.PROTECT, null=True, related_name="+")
    account = models.ForeignKey(Account, models.CASCADE, null=True, related_name="notes")
    deal = models.ForeignKey(Deal, models.CASCADE, null=True, related_name="notes")
    lead = models.ForeignKey(Lead, models.CASCADE, null=True, related_name="notes")
    text = models.CharField(max_length=10_000)


class KeptFile(models.Model):
    """A file kept with a deal."""

    key = KeyField()
    deal = models.ForeignKey(Deal, models.CASCADE, related_name="files")
    name = models.CharField(max_length=200)
    at = MomentField()
    by = models.CharField(max_length=64, blank=True)
    content = models.BinaryField()


class SavedView(models.Model):
    """A way to look at the list of deals that somebody keeps: the list's address without the scope.

    `starts`: the owner's list begins with it.
    """

    key = KeyField()
    name = models.CharField(max_length=200)
    owner = models.ForeignKey(Person, models.CASCADE, related_name="views")
    shared = models.BooleanField(default=False)
    starts = models.BooleanField(default=False)
    query = models.CharField(max_length=10_000, blank=True)


class Invoice(models.Model):
    """An invoice from the ledger; credit notes are negative."""

    key = KeyField()
    account = models.ForeignKey(Account, models.PROTECT, related_name="invoices")
    issued_on = DayField()
    due_on = DayField()
    amount_minor = models.BigIntegerField()
    paid_on = DayField(null=True)
    product_group = models.CharField(max_length=10_000, blank=True)
    product = models.ForeignKey(Product, models.PROTECT, null=True, related_name="+")


class Order(models.Model):
    """An order from the ledger."""

    key = KeyField()
    account = models.ForeignKey(Account, models.PROTECT, related_name="orders")
    ordered_on = DayField()
    ships_on = DayField(null=True)
    amount_minor = models.BigIntegerField()
    product_group = models.CharField(max_length=10_000, blank=True)
    product = models.ForeignKey(Product, models.PROTECT, null=True, related_name="+")
    open = models.BooleanField()


class OwnField(PickListEntry):
    """A field the user adds to deals, accounts or leads."""

    key = KeyField()
    applies_to = models.CharField(max_length=7)
    name = models.CharField(max_length=200)
    kind = models.CharField(max_length=6)
    choices = models.CharField(max_length=10_000, blank=True)


class OwnFieldValue(models.Model):
    """The value of an own field for one subject."""

    field = models.ForeignKey(OwnField, models.CASCADE, related_name="values")
    subject_key = models.CharField(max_length=64)
    value = models.CharField(max_length=10_000)

    class Meta:
        unique_together = [("field", "subject_key")]


class ContactInterval(models.Model):
    """How often a customer of an open deal is to be contacted: by the account's class (its industry) or the process."""

    subject = models.CharField(max_length=8, choices=[("process", "process"), ("industry", "class of account")])
    subject_key = models.CharField(max_length=200)
    days = models.PositiveSmallIntegerField()

    class Meta:
        unique_together = [("subject", "subject_key")]
