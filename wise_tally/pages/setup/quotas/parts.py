"""Season curves and custom periods: typed, checked, kept."""

from datetime import datetime
from typing import Any

from wise_tally.core.calendar import Period
from wise_tally.core.distribution import check_curve
from wise_tally.core.errors import CoreError
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.records import save_record
from wise_tally.domain.targets.models import CustomPeriod, SeasonCurve
from wise_tally.web.forms.fields import DateField, LedgerForm, NameField, PercentField


class CurveForm(LedgerForm):
    """A name and twelve percentages, from the first fiscal month on."""

    name = NameField(label="Name of the curve")

    def __init__(self, *args: Any, months: tuple[Period, ...], **options: Any) -> None:
        super().__init__(*args, **options)
        for number, month in enumerate(months):
            field = PercentField(label=f"{month.starts_on:%b}, %", required=True)
            field.widget.attrs["class"] = "boxed number-in"
            self.fields[f"m{number}"] = field

    def clean(self) -> None:
        """Twelve shares that sum to 100 %, under a name of its own."""
        shares = [self.cleaned_data.get(f"m{number}") for number in range(12)]
        known = [share for share in shares if share is not None]
        if len(known) == len(shares):
            try:
                check_curve(known)
            except CoreError as wrong:
                self.add_error(None, str(wrong))
        self.cleaned_data["months_bp"] = known
        name = self.cleaned_data.get("name")
        if name and SeasonCurve.objects.filter(name__iexact=name).exists():
            self.add_error("name", f"A curve named “{name}” already exists. Choose another name.")


class CustomPeriodForm(LedgerForm):
    """A span with a name, such as a campaign."""

    name = NameField(label="Name of the period")
    starts_on = DateField(label="First day", required=True)
    ends_on = DateField(label="Last day", required=True)

    def clean(self) -> None:
        """The last day is not before the first."""
        first, last = self.cleaned_data.get("starts_on"), self.cleaned_data.get("ends_on")
        if first and last and last < first:
            self.add_error(
                "ends_on", f"The last day {day(last)} is before the first day {day(first)}. Choose a later last day."
            )


def save_curve(viewer: Viewer, form: CurveForm, now: datetime) -> None:
    """Keep a new curve."""
    values = {"name": form.cleaned_data["name"], "months_bp": form.cleaned_data["months_bp"]}
    save_record(viewer, SeasonCurve, None, values, now)


def save_period(viewer: Viewer, form: CustomPeriodForm, now: datetime) -> None:
    """Keep a new period."""
    save_record(viewer, CustomPeriod, None, form.cleaned_data, now)
