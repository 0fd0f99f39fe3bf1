"""Form fields that read what people type as kept values, and say what is accepted."""

from collections.abc import Iterable
from datetime import date
from typing import Any

from django import forms

from wise_tally.domain.formats import bare, currency_decimals, money_input
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.typed_numbers import typed_count, typed_money, typed_percent
from wise_tally.web.request.refusals import Refused


class LedgerForm(forms.Form):
    """A form in our look: labels above, hints below, faults beside their field."""

    error_css_class = "wrong"

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **{"label_suffix": "", "use_required_attribute": False, **options})
        for field in self.fields.values():
            if not isinstance(field.widget, forms.CheckboxInput | forms.RadioSelect | forms.HiddenInput):
                field.widget.attrs.setdefault("class", "boxed")

    def offer(self, name: str, choices: Iterable[tuple[str, str]]) -> None:
        """What a field lets choose."""
        field = self.fields[name]
        assert isinstance(field, forms.ChoiceField)
        field.choices = list(choices)

    def full_clean(self) -> None:
        """Read all fields; those with a fault are marked."""
        super().full_clean()
        for name in self.errors:
            if name in self.fields:
                self.fields[name].widget.attrs["aria-invalid"] = "true"

    @property
    def faults(self) -> str:
        """All that is wrong, in one text."""
        return " ".join(str(text) for texts in self.errors.values() for text in texts)

    def values(self) -> dict[str, Any]:
        """What was typed, of a form that stands on no page of its own; raises Refused with all that is wrong."""
        if not self.is_valid():
            raise Refused(self.faults, 422)
        return self.cleaned_data


class NameField(forms.CharField):
    """A name of 1 to 200 characters."""

    def __init__(self, **options: Any) -> None:
        words = {"required": "Enter a name (up to 200 characters).", "max_length": "Use at most 200 characters."}
        super().__init__(**{"max_length": 200, "error_messages": words, **options})


class MoneyField(forms.CharField):
    """Money in minor units, None for nothing typed."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"required": False, "widget": forms.TextInput(attrs={"inputmode": "decimal"}), **options})

    def prepare_value(self, value: Any) -> Any:
        """Kept money as typed."""
        return money_input(value) if isinstance(value, int) else value

    def clean(self, value: Any) -> Any:
        """Minor units of what was typed."""
        text = super().clean(value)
        return _or_fault(typed_money(text, currency_decimals())) if text else None


class PercentField(forms.CharField):
    """A percentage in basis points, None for nothing typed."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"required": False, "widget": forms.TextInput(attrs={"inputmode": "decimal"}), **options})

    def prepare_value(self, value: Any) -> Any:
        """Kept basis points as typed."""
        return bare(value) if isinstance(value, int) else value

    def clean(self, value: Any) -> Any:
        """Basis points of what was typed."""
        text = super().clean(value)
        return _or_fault(typed_percent(text)) if text else None


class CountField(PercentField):
    """A number of days or pieces in hundredths, None for nothing typed."""

    def clean(self, value: Any) -> Any:
        """Hundredths of what was typed."""
        text = forms.CharField.clean(self, value)
        return _or_fault(typed_count(text)) if text else None


class DateField(forms.CharField):
    """A date, None for nothing typed."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"required": False, "widget": forms.DateInput(attrs={"type": "date"}), **options})

    def prepare_value(self, value: Any) -> Any:
        """A kept date as typed."""
        return value.isoformat() if isinstance(value, date) else value

    def clean(self, value: Any) -> Any:
        """The date of what was typed."""
        text = super().clean(value)
        day = typed_day(text) if text else None
        if isinstance(day, str):
            raise forms.ValidationError(day)
        return day


def _or_fault(value: int | str) -> int:
    if isinstance(value, str):
        raise forms.ValidationError(value)
    return value
