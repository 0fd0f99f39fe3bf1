"""The organisation's settings page."""

import re
from calendar import month_name
from functools import cache
from itertools import pairwise
from typing import Any
from zoneinfo import available_timezones

from babel import Locale
from babel.numbers import get_currency_name, get_currency_precision, get_territory_currencies
from django import forms
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from wise_tally.domain.deals.follow_ups import MESSAGE_PLACEHOLDERS
from wise_tally.domain.deals.models import DealRevision
from wise_tally.domain.formats import currency_decimals, plain_money
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import USUAL_CUSTOMER_SIZES, Workspace
from wise_tally.domain.org.records import ChangedMeanwhile, as_text, values_of
from wise_tally.domain.org.settings_actions import set_organisation
from wise_tally.domain.targets.models import Quota
from wise_tally.domain.typed_numbers import typed_money
from wise_tally.web.forms.fields import LedgerForm, NameField
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.viewing import PageRequest

MONTHS = tuple(month_name[1:])
NAMES = (
    "organisation",
    "currency",
    "time_zone",
    "fiscal_year_start_month",
    "reps_see_team",
    "all_see_unowned",
    "customer_sizes",
    "not_reached_message",
    "decimal_sign",
    "day_order",
)


@cache
def _currencies() -> list[tuple[str, str]]:
    """What is money somewhere today: code, and code with name."""
    codes = {code for territory in Locale("en").territories for code in get_territory_currencies(str(territory))}
    return [(code, f"{code} · {get_currency_name(code, locale='en')}") for code in sorted(codes)]


@cache
def _time_zones() -> list[tuple[str, str]]:
    """Zones by region and town."""
    zones = sorted(zone for zone in available_timezones() if "/" in zone and not zone.startswith("Etc/"))
    return [(zone, zone.replace("_", " ")) for zone in ["UTC", *zones]]


class SizesField(forms.CharField):
    """Classes of customers by sales, one a line: a name, and from the second on a colon and the amount it begins at."""

    def clean(self, value: Any) -> str:
        """The lines as kept, amounts without spaces; the usual ones for nothing typed."""
        lines = [line.strip() for line in super().clean(value).splitlines() if line.strip()]
        if not lines:
            return USUAL_CUSTOMER_SIZES
        cleaned, begins = [lines[0]], [0]
        for line in lines[1:]:
            name, _, amount = line.rpartition(":")
            begin = typed_money(amount, currency_decimals())
            if not name.strip() or isinstance(begin, str):
                raise forms.ValidationError(
                    f"“{line[:60]}” is not a class. Enter a name, a colon and the amount it begins at, such as “large: 250000”."
                )
            cleaned.append(f"{name.strip()}: {plain_money(begin)}")
            begins.append(begin)
        names = [cleaned[0], *(line.rpartition(":")[0] for line in cleaned[1:])]
        if len(set(names)) < len(names) or ":" in "".join(names) or max(map(len, names)) > 60:
            raise forms.ValidationError(
                "Give each class a name of its own, of up to 60 characters and without a colon."
            )
        if any(following <= begin for begin, following in pairwise(begins)):
            raise forms.ValidationError("Each class begins above the one before it. Put the smallest first.")
        return "\n".join(cleaned)


class OrganisationForm(LedgerForm):
    """Name, currency, time zone, fiscal year, what reps see."""

    organisation = NameField(label="Organisation")
    currency = forms.ChoiceField(
        label="Currency",
        error_messages={"invalid_choice": "“%(value)s” is not a currency. Enter a three-letter code, for example EUR."},
    )
    time_zone = forms.ChoiceField(
        label="Time zone",
        error_messages={"invalid_choice": "“%(value)s” is not a time zone. Enter one such as Europe/Dublin."},
    )
    fiscal_year_start_month = forms.TypedChoiceField(
        label="First month of the fiscal year", coerce=int, choices=list(enumerate(MONTHS, 1))
    )
    decimal_sign = forms.ChoiceField(
        label="Numbers are written",
        required=False,
        choices=[(".", "1 250.00"), (",", "1 250,00")],
        help_text="other forms are understood as well; this one decides what 1.250 means",
    )
    day_order = forms.ChoiceField(
        label="Dates in numbers are read as",
        required=False,
        choices=[("dmy", "day, month, year: 28/11/2026"), ("mdy", "month, day, year: 11/28/2026")],
    )
    reps_see_team = forms.BooleanField(label="Reps can see their team’s figures and deals", required=False)
    all_see_unowned = forms.BooleanField(label="Everybody sees customers that have no owner", required=False)

    not_reached_message = forms.CharField(
        label="Message to contacts who could not be reached",
        required=False,
        max_length=5_000,
        widget=forms.Textarea(attrs={"rows": 4}),
        help_text="the first line is the subject; {name}, {me}, {firm} and {next}, the day of the next try, are filled in",
    )
    customer_sizes = SizesField(
        label="Sizes of customers by the sales of twelve months",
        required=False,
        widget=forms.Textarea(attrs={"rows": 4}),
        help_text="one per line, smallest first; from the second, a colon and the sales it starts at; leave empty for the defaults",
    )

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        workspace = Workspace.current()
        # What a package brought may be older than these lists.
        for name, current, offered in (
            ("currency", workspace.currency, _currencies()),
            ("time_zone", workspace.time_zone, _time_zones()),
        ):
            self.offer(name, offered if current in dict(offered) else [(current, current), *offered])

    def clean_not_reached_message(self) -> str:
        """Only placeholders that are filled in."""
        text: str = self.cleaned_data["not_reached_message"]
        if strange := sorted(set(re.findall(r"{(.*?)}", text)) - MESSAGE_PLACEHOLDERS):
            raise forms.ValidationError(
                f"“{{{strange[0][:40]}}}” cannot be filled in. Use {{name}}, {{me}}, {{firm}} or {{next}}."
            )
        return text

    def clean_currency(self) -> str:
        """A code with the decimals of what is kept."""
        code: str = self.cleaned_data["currency"]
        current = Workspace.current().currency
        money = DealRevision.objects.exists() or Quota.objects.exists()
        if money and get_currency_precision(code) != get_currency_precision(current):
            raise forms.ValidationError(
                f"The decimals of {current} are already in use. Choose a currency with the same number of decimals."
            )
        return code

    def clean_decimal_sign(self) -> str:
        """What is kept, where nothing was chosen."""
        return self.cleaned_data["decimal_sign"] or Workspace.current().decimal_sign

    def clean_day_order(self) -> str:
        """What is kept, where nothing was chosen."""
        return self.cleaned_data["day_order"] or Workspace.current().day_order


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_ORGANISATION)
def organisation(request: PageRequest) -> HttpResponse:
    """Settings that hold for everything."""
    workspace = Workspace.current()
    form = OrganisationForm(
        request.POST if request.method == "POST" else None, initial={name: getattr(workspace, name) for name in NAMES}
    )
    if request.method == "POST" and form.is_valid():
        try:
            set_organisation(request.viewer, form.cleaned_data, now(), request.POST.get("expected", ""))
            messages.success(request, "Saved.")
            return redirect("setup:organisation")
        except ChangedMeanwhile as changed:
            others = changed.otherwise(request.POST.get("expected", ""))
            there = [f"{name.replace('_', ' ')} {value}" for name, value in others.items()]
            form.add_error(None, f"Somebody else has changed this to {', '.join(there)}. Save again to overwrite.")
    expected_now = as_text(values_of(workspace, list(NAMES)))
    answer = {"form": form, "expected": expected_now, "may_edit": request.viewer.may(May.SET_ORGANISATION)}
    return render(request, "setup/organisation.html", answer, status=422 if form.errors else 200)
