"""Forms of accounts, contacts, leads, activities."""

from collections.abc import Iterable
from datetime import datetime, time
from typing import Any
from zoneinfo import ZoneInfo

from django import forms

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import REPEATS
from wise_tally.domain.formats import ACTIVITIES
from wise_tally.domain.org.access import Viewer, may_give
from wise_tally.domain.org.clock import local_day, now, today
from wise_tally.domain.org.models import Person, Territory, Workspace
from wise_tally.domain.process.models import LeadStep, Source
from wise_tally.web.forms.choices import KeyChoice, pairs_of
from wise_tally.web.forms.fields import DateField, LedgerForm, NameField
from wise_tally.web.forms.own_fields import names_of, own_form_fields, split_own

DONE_KINDS = [(kind, words) for kind, words in ACTIVITIES.items() if kind != "web_visit"]
KIND_WORDS = ACTIVITIES


class OwnedForm(LedgerForm):
    """A record that belongs to somebody: those who may give it to another choose to whom, for others it stays whose it is."""

    owner = KeyChoice("Owner", "people", required=False)
    nobody = "none"

    def __init__(self, viewer: Viewer, owner: Person | None, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.present = owner
        reference, day, owner_key = books.current().reference, today(), owner.key if owner else ""
        takers = [p for p in _working(owner_key) if may_give(viewer, reference, day, owner_key, p.key)]
        choices = pairs_of(takers, self.nobody)
        if not may_give(viewer, reference, day, owner_key, ""):
            choices = choices[1:]
        if len(choices) < 2:
            del self.fields["owner"]
        else:
            self.offer("owner", choices)

    def cleaned(self) -> dict[str, Any]:
        """The cleaned values as kept, with those of own fields apart."""
        clean, own = split_own(self.cleaned_data)
        chosen = clean.get("owner") if "owner" in self.fields else None
        owner = Person.objects.get(key=chosen) if chosen else None
        return clean | {"own": own, "owner": owner if "owner" in self.fields else self.present}


class AccountForm(OwnedForm):
    """A customer: an organisation or a person."""

    name = NameField(label="Name")
    kind = forms.ChoiceField(label="Kind", choices=[("organisation", "organisation"), ("person", "person")])
    territory = KeyChoice("Territory", "territories", required=False)
    industry = forms.CharField(label="Industry", required=False, max_length=200)
    country = forms.CharField(label="Country", required=False, max_length=200)
    field_order = ("name", "kind", "territory", "owner", "industry", "country")

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.offer(
            "territory",
            pairs_of(Territory.objects.offered(self.initial.get("territory") or "").order_by("name"), "none"),
        )
        self.fields.update(own_form_fields("account", self.initial))

    def cleaned(self) -> dict[str, Any]:
        """The same with the territory."""
        values = super().cleaned()
        territory = Territory.objects.get(key=values["territory"]) if values["territory"] else None
        return values | {"territory": territory}


def _working(present: str | None) -> Iterable[Person]:
    """People who have not left, and the present one."""
    day = today()
    return [
        person
        for person in Person.objects.order_by("name")
        if person.active_to is None or person.active_to >= day or person.key == present
    ]


class ContactForm(LedgerForm):
    """Somebody at a customer's."""

    name = NameField(label="Name")
    email = forms.EmailField(label="E-mail", required=False, max_length=200)
    phone = forms.CharField(label="Phone", required=False, max_length=200)
    job_title = forms.CharField(label="Job title", required=False, max_length=200)


class LeadForm(OwnedForm):
    """Somebody who may become a customer."""

    name = NameField(label="Name")
    customer = forms.CharField(label="Organisation", required=False, max_length=200)
    email = forms.EmailField(label="E-mail", required=False, max_length=200)
    phone = forms.CharField(label="Phone", required=False, max_length=200)
    source = forms.ChoiceField(label="Source", required=False)
    status = forms.ChoiceField(label="Status", choices=[("new", "new"), ("working", "working")])
    step = KeyChoice("Step", required=False)
    campaign = forms.CharField(label="Campaign", required=False, max_length=200)
    score = forms.IntegerField(label="Score, 0 to 100", required=False, min_value=0, max_value=100)
    field_order = ("name", "customer", "email", "phone", "source", "campaign", "score", "owner", "step", "status")
    nobody = "unassigned"

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.fields.update(own_form_fields("lead", self.initial))
        self.offer("source", names_of(Source, self.initial.get("source", "")))
        steps = LeadStep.objects.offered(self.initial.get("step", "")).order_by("position")
        if steps:
            self.offer("step", pairs_of(steps, "none yet"))
        else:
            del self.fields["step"]

    def cleaned(self) -> dict[str, Any]:
        """The same with the step."""
        values = super().cleaned()
        return values | {"step": LeadStep.objects.get(key=values["step"]) if values.get("step") else None}


class ActivityForm(LedgerForm):
    """A phone call, meeting, mail, visit or task: done, or planned for a day."""

    kind = forms.ChoiceField(choices=DONE_KINDS)
    subject = forms.CharField(max_length=10_000, error_messages={"required": "Enter a subject."})
    on = DateField()
    at = forms.TimeField(required=False, error_messages={"invalid": "Enter a time such as 14:30."})
    planned = forms.BooleanField(required=False)
    repeat = forms.ChoiceField(required=False, choices=[("", "once"), *REPEATS.items()])
    # Whom it is planned for; the one who writes it down, where nobody is named.
    person = forms.CharField(required=False)

    def clean(self) -> dict[str, Any]:
        """A planned activity needs a day; a done one cannot lie ahead."""
        clean = super().clean() or {}
        day, planned = clean.get("on"), clean.get("planned")
        if planned and day is None and "on" not in self.errors:
            self.add_error("on", "Enter a date for the planned activity.")
        if not planned and day is not None and day > today():
            self.add_error("on", "What is done cannot lie ahead; tick planned, or choose a day up to today.")
        return clean

    def cleaned(self) -> dict[str, Any]:
        """The cleaned values as an activity keeps them; without a day it is done now."""
        clean, moment = self.cleaned_data, now()
        if clean["on"] in (None, local_day(moment)) and not clean["planned"] and not clean["at"]:
            when = moment
        else:
            when = noon_of(clean["on"] or local_day(moment), clean["at"])
        status = "planned" if clean["planned"] else "done"
        repeat = clean["repeat"] if clean["planned"] else ""
        return {"kind": clean["kind"], "subject": clean["subject"], "at": when, "status": status, "repeat": repeat}


def noon_of(day: Any, hour: time | None = None) -> datetime:
    """Noon of a day in the workspace's time zone, or another time of it."""
    return datetime.combine(day, hour or time(12), ZoneInfo(Workspace.current().time_zone))
