"""Form fields that several pages share: own fields, names of lists, the expected close of a new deal."""

from collections.abc import Mapping
from typing import Any

from django import forms

from wise_tally.domain.deals.entry import own_value
from wise_tally.domain.deals.models import OwnField
from wise_tally.domain.deals.own_fields import own_values
from wise_tally.domain.formats import day as shown_day
from wise_tally.domain.org.clock import today
from wise_tally.domain.process.models import DealType, Source
from wise_tally.domain.refusals import WriteRefused
from wise_tally.web.forms.fields import DateField

BOXED = {"class": "boxed"}


class NewCloseField(DateField):
    """The expected close of a new deal: a day from today on, or none, for what is new cannot have been due."""

    def clean(self, value: Any) -> Any:
        """The date of what was typed."""
        day = super().clean(value)
        if day and day < today():
            raise forms.ValidationError(f"{shown_day(day)} is in the past. Choose today or later, or leave it empty.")
        return day


def names_of(model: type[Source] | type[DealType], present: str) -> list[tuple[str, str]]:
    """The names of a list as choices, with the present one even if it is retired or not on the list."""
    names = list(model.objects.offered().order_by("name").values_list("name", flat=True))
    names += [present] if present and present not in names else []
    return [("", "none"), *((name, name) for name in names)]


class OwnFormField(forms.CharField):
    """An own field of text, number or date; what its kind does not accept is explained beside it."""

    def __init__(self, own: OwnField, **options: Any) -> None:
        kind = {"type": "date"} if own.kind == "date" else {}
        super().__init__(
            label=own.name, required=False, max_length=10_000, widget=forms.TextInput(attrs=BOXED | kind), **options
        )
        self.own = own

    def clean(self, value: Any) -> Any:
        """The typed value as kept."""
        text = super().clean(value)
        try:
            return own_value(self.own, text) if text else ""
        except WriteRefused as refused:
            raise forms.ValidationError(str(refused)) from refused


def own_form_fields(applies_to: str, initial: Mapping[str, Any]) -> dict[str, forms.Field]:
    """Form fields of own fields, by name in the form; of retired ones those that have a value in `initial`."""
    filled = [name.partition(":")[2] for name in initial if name.startswith("own:")]
    form_fields: dict[str, forms.Field] = {}
    for own in OwnField.objects.offered(*filled).filter(applies_to=applies_to).order_by("key"):
        if own.kind == "choice":
            choices = [("", "none"), *((word, word) for word in own.choices.split(";"))]
            widget = forms.Select(attrs=BOXED)
            form_fields[f"own:{own.key}"] = forms.ChoiceField(
                label=own.name, required=False, choices=choices, widget=widget
            )
        else:
            form_fields[f"own:{own.key}"] = OwnFormField(own)
    return form_fields


def split_own(clean: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, str]]:
    """Cleaned values without own fields, and the own fields that hold something, by identifier."""
    own = {name.partition(":")[2]: value for name, value in clean.items() if name.startswith("own:")}
    rest = {name: value for name, value in clean.items() if not name.startswith("own:")}
    return rest, {key: text for key, text in sorted(own.items()) if text}


def own_initial(applies_to: str, subject_key: str) -> dict[str, str]:
    """Kept values of own fields as forms show them."""
    return {f"own:{key}": text for key, text in own_values(applies_to, subject_key).items()}
