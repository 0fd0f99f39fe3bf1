"""The details of a deal as a form: name, customer, partner, where it came from, competitor, own fields."""

from collections.abc import Mapping
from typing import Any

from django import forms
from django.http import QueryDict

from wise_tally.domain.deals.models import Account, Deal, Partner
from wise_tally.domain.process.models import DealType, Source
from wise_tally.web.forms.choices import KeyChoice, key_within, pairs_of, suggests
from wise_tally.web.forms.fields import DateField, LedgerForm, NameField
from wise_tally.web.forms.own_fields import names_of, own_form_fields, split_own
from wise_tally.web.visibility import Visibility

Values = dict[str, Any]


def account_named(visible: Visibility, text: str) -> Account | None:
    """The account, of those open to the viewer, that a typed name or identifier means; raises ValidationError with likely ones."""
    if not text:
        return None
    by_name = visible.accounts().filter(name__iexact=text).order_by("key")
    accounts = by_name[:2] or visible.accounts().filter(key__in=(text, key_within(text)))[:2]
    if len(accounts) == 1:
        return accounts[0]
    if accounts:
        keys = ", ".join(by_name.values_list("key", flat=True)[:5])
        raise forms.ValidationError(f"Several accounts are named “{text[:60]}”. Enter the account ID instead: {keys}.")
    likely = ", ".join(account.name for account in visible.likely_accounts(text))
    if not likely and (elsewhere := visible.twin_elsewhere(text)):
        raise forms.ValidationError(elsewhere)
    accepted = likely or "the name of an account that is there"
    raise forms.ValidationError(f"Account “{text[:60]}” not found. Choose one of: {accepted}.")


class AccountField(forms.CharField):
    """An account by its name, None for nothing typed; the form that has it decides whose visibility applies."""

    visible: Visibility

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"required": False, "widget": forms.TextInput(attrs=suggests("accounts")), **options})

    def clean(self, value: Any) -> Any:
        """The account of what was typed."""
        return account_named(self.visible, super().clean(value))


class DetailsForm(LedgerForm):
    """What a deal is about, beside its state."""

    name = NameField(label="Name")
    account = AccountField(label="Customer", help_text="The name of an account; leave empty for none.")
    contact = KeyChoice("Contact", required=False)
    partner = KeyChoice("Partner", "partners", required=False)
    deal_type = forms.ChoiceField(label="Deal type", required=False)
    source = forms.ChoiceField(label="Source", required=False)
    campaign = forms.CharField(label="Campaign", required=False, max_length=10_000)
    competitor = forms.CharField(label="Competitor", required=False, max_length=200)
    next_step = forms.CharField(label="Next step", required=False, max_length=10_000)
    next_step_on = DateField(label="Next step due on")

    def __init__(self, deal: Deal, visible: Visibility, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.fields["account"].visible = visible  # type: ignore[attr-defined]
        self.fields.update(own_form_fields("deal", self.initial))
        there = deal.account.contacts.order_by("name") if deal.account else []
        self.offer("contact", pairs_of(there, "none"))
        self.offer(
            "partner",
            pairs_of(Partner.objects.offered(deal.partner.key if deal.partner else "").order_by("name"), "none"),
        )
        self.offer("deal_type", names_of(DealType, deal.deal_type))
        self.offer("source", names_of(Source, deal.source))

    def cleaned(self) -> Values:
        """The cleaned values as a part keeps them; a contact of another customer is dropped with it."""
        clean = dict(self.cleaned_data)
        clean, own = split_own(clean)
        account = clean["account"]
        if clean["contact"] and not (account and account.contacts.filter(key=clean["contact"]).exists()):
            clean["contact"] = None
        clean["account"] = account.key if account else None
        clean["next_step_on"] = clean["next_step_on"].isoformat() if clean["next_step_on"] else None
        return clean | {"own": own}


def initial_of(deal: Deal, details: Mapping[str, Any]) -> Values:
    """The kept details as the form shows them."""
    shown = {**details, "account": deal.account.name if deal.account else ""}
    return shown | {f"own:{key}": text for key, text in details["own"].items()}


def details_form(
    deal: Deal, visible: Visibility, details: Mapping[str, Any], posted: QueryDict | None = None
) -> DetailsForm:
    """The form, filled with what is typed or else with what is kept."""
    return DetailsForm(deal, visible, posted, initial=initial_of(deal, details))
