"""One form for each list of setup."""

from typing import Any

from django import forms

from wise_tally.book.store import books
from wise_tally.domain.deals.models import OwnField
from wise_tally.domain.formats import plural
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Person, Role, Territory
from wise_tally.domain.org.pasted_people import is_mail
from wise_tally.domain.process.models import Category, DealType, LeadStep, LostReason, Source
from wise_tally.web.forms.choices import KeyChoice, Pair, pairs_of
from wise_tally.web.forms.fields import CountField, DateField, LedgerForm, MoneyField, NameField, PercentField


class RecordForm(LedgerForm):
    """A form for one record; `key` is the record changed, None for a new one."""

    def __init__(self, *args: Any, key: str | None = None, **options: Any) -> None:
        self.key = key
        super().__init__(*args, **options)

    def refuse_twin(self, model: Any, words: str) -> None:
        """A fault beside the name where another record has it."""
        name = self.cleaned_data.get("name")
        twin = name and model.objects.filter(name__iexact=name).exclude(key=self.key or "").first()
        if twin:
            retired = getattr(twin, "retired", False)
            way = "is retired. Open it and bring it back" if retired else "already exists. Choose another name"
            self.add_error("name", f"{words} “{twin.name}” {way}.")


class PickListForm(RecordForm):
    """A form for an entry of a pick list; a new one is not retired."""

    retired = forms.BooleanField(
        label="Retired", required=False, help_text="No longer offered; it stays where it was used."
    )

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        retired = self.fields.pop("retired")
        if self.key is not None:
            self.fields["retired"] = retired


class CategoryForm(RecordForm):
    """A forecast category."""

    name = NameField(label="Name")
    rank = forms.IntegerField(label="Rank", min_value=1, max_value=99, help_text="1 is the most certain")
    counted = forms.BooleanField(label="Included in the forecast", required=False, initial=True)

    def clean(self) -> None:
        """Ranks and names are unique."""
        self.refuse_twin(Category, "A category")
        rank = self.cleaned_data.get("rank")
        other = Category.objects.filter(rank=rank or 0).exclude(key=self.key or "").first()
        if other:
            self.add_error("rank", f"Rank {rank} is used by “{other.name}”. Choose another rank.")


class DealTypeForm(PickListForm):
    """A deal type with its group."""

    name = NameField(label="Name")
    group = forms.CharField(label="Group", max_length=200, required=False, help_text="for example new business")

    def clean(self) -> None:
        """Names are unique."""
        self.refuse_twin(DealType, "A deal type")


class SourceForm(PickListForm):
    """A source of leads and deals."""

    name = NameField(label="Name")

    def clean(self) -> None:
        """Names are unique."""
        self.refuse_twin(Source, "A source")


class LeadStepForm(PickListForm):
    """A step of the leads' pipeline."""

    name = NameField(label="Name")
    position = forms.IntegerField(label="Order", min_value=1, max_value=99, help_text="1 is the first step")
    typical_days_hundredths = CountField(label="Typical days", help_text="longer is marked")

    def clean(self) -> None:
        """Names and places are unique among the steps offered."""
        self.refuse_twin(LeadStep, "A step")
        position = self.cleaned_data.get("position") or 0
        others = LeadStep.objects.filter(position=position, retired=False).exclude(key=self.key or "")
        if (other := others.first()) and not self.cleaned_data.get("retired"):
            self.add_error("position", f"Place {position} is taken by “{other.name}”. Choose another place.")


class LostReasonForm(PickListForm):
    """A reason for which deals are lost."""

    name = NameField(label="Name")

    def clean(self) -> None:
        """Names are unique."""
        self.refuse_twin(LostReason, "A loss reason")


class OwnFieldForm(PickListForm):
    """A field of the firm's own."""

    name = NameField(label="Name")
    applies_to = forms.ChoiceField(label="On", choices=[("deal", "deals"), ("account", "accounts"), ("lead", "leads")])
    kind = forms.ChoiceField(label="Kind", choices=[(k, k) for k in ("choice", "text", "number", "date")])
    choices = forms.CharField(
        label="Choices", max_length=10_000, required=False, help_text="separate with ;", strip=True
    )

    def clean(self) -> None:
        """A choice has choices; the kind stays while there are values."""
        typed = self.cleaned_data
        choices = [part.strip() for part in typed.get("choices", "").split(";") if part.strip()]
        typed["choices"] = ";".join(choices)
        if typed.get("kind") == "choice" and len(choices) < 2:
            self.add_error("choices", "Enter at least two options, separated by ;")
        if typed.get("kind") != "choice" and choices:
            self.add_error("choices", "Options are only possible for the kind “choice”. Leave this empty.")
        if len(set(choices)) < len(choices):
            self.add_error("choices", "An option appears twice. Enter each option once.")
        saved = OwnField.objects.filter(key=self.key or "").first()
        if saved and saved.values.exists():
            if (saved.kind, saved.applies_to) != (typed.get("kind"), typed.get("applies_to")):
                self.add_error(
                    "kind",
                    f"The field already has {plural(saved.values.count(), 'value')}, so its kind and record type cannot be changed.",
                )
            gone = set(saved.values.values_list("value", flat=True)) - set(choices)
            if saved.kind == "choice" and gone:
                self.add_error("choices", f"The option “{sorted(gone)[0]}” is in use. Keep it in the list.")


class ProductForm(PickListForm):
    """Something sold."""

    name = NameField(label="Name")
    product_group = forms.CharField(label="Product group", max_length=200, required=False)
    unit_price_minor = MoneyField(label="Unit price")
    unit_cost_minor = MoneyField(label="Unit cost")


def _held(form: forms.Form, name: str) -> str:
    """The identifier that the record at hand holds."""
    return getattr(form.initial.get(name), "key", form.initial.get(name)) or ""


class PartnerForm(PickListForm):
    """A reseller or consultant."""

    name = NameField(label="Name")
    kind = forms.CharField(label="Kind", max_length=200, required=False, help_text="such as reseller or consultant")
    territory = KeyChoice("Territory", "territories", required=False)

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        territories = Territory.objects.offered(_held(self, "territory")).order_by("name")
        self.offer("territory", pairs_of(territories, "none"))

    def clean(self) -> None:
        """The territory as a record."""
        key = self.cleaned_data.get("territory")
        self.cleaned_data["territory"] = Territory.objects.get(key=key) if key else None


class TeamForm(PickListForm):
    """A team and who manages it."""

    name = NameField(label="Name")
    manager = KeyChoice("Manager", "people", required=False)

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.offer("manager", pairs_of(Person.objects.order_by("name"), "nobody"))

    def clean(self) -> None:
        """The manager as a record; a team is retired once nobody and no team is in it."""
        key = self.cleaned_data.get("manager")
        self.cleaned_data["manager"] = Person.objects.get(key=key) if key else None
        reference, day = books.current().reference, today()
        team = next((i for i, one in enumerate(reference.teams) if one.key == self.key), None)
        if team is None or not self.cleaned_data.get("retired"):
            return
        working = set(Person.objects.filter(active_to=None).values_list("key", flat=True))
        inside = [one.name for i, one in enumerate(reference.people)
                  if one.key in working and reference.team_of(i, day.toordinal()) == team]  # fmt: skip
        inside += [reference.teams[child].name for child in reference.team_tree(day).children(team)]
        if inside:
            self.add_error(
                "retired", f"{', '.join(inside[:3])} {'is' if len(inside) == 1 else 'are'} in it. Move them first."
            )


class TerritoryForm(PickListForm):
    """A territory."""

    name = NameField(label="Name")


class PersonForm(RecordForm):
    """Somebody of the firm."""

    name = NameField(label="Name")
    email = forms.CharField(label="E-mail", max_length=200, required=False)
    role = forms.ChoiceField(label="Role", choices=Role.choices, initial=Role.REP)
    active_from = DateField(label="First day")
    active_to = DateField(label="Last day")

    def clean_email(self) -> str:
        """A mail address, as the people pasted at the start have it."""
        text: str = self.cleaned_data["email"]
        if text and not is_mail(text):
            raise forms.ValidationError(
                f"“{text[:40]}” is not an e-mail address. Enter one such as name@company.com, or leave it empty."
            )
        return text


class MoveForm(LedgerForm):
    """Something under another from a day on."""

    node = KeyChoice("Name")
    above = KeyChoice("Name", required=False)
    from_on = DateField(label="From", required=True)

    def __init__(self, movable: list[Pair], *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.offer("node", movable)
        self.offer("above", [("", "none"), *movable])


class RateForm(LedgerForm):
    """A commission rate from a day on."""

    rate = PercentField(label="Commission rate, %", required=True)
    from_on = DateField(label="From", required=True)
