"""Saving a part of a deal: written, or shown again with what was typed, what is wrong and what is there now."""

from dataclasses import dataclass
from typing import Any

from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.actions import OldState, last_revision
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.deals.parts import PARTS, Who, change_part, part_text, put_part_back
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.deals.deal_page import open_deal
from wise_tally.pages.deals.details import DetailsForm, details_form
from wise_tally.pages.deals.part_forms import RowForm, read_rows, shown_form
from wise_tally.pages.deals.part_sums import sums_of
from wise_tally.web.forms.fields import DateField, LedgerForm, forms
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


class NextForm(LedgerForm):
    """The next step and the day it is due."""

    next_step = forms.CharField(label="Next step", required=False, max_length=10_000)
    next_step_on = DateField(label="Due on")

    def cleaned(self) -> dict[str, Any]:
        """The cleaned values as the part keeps them."""
        day = self.cleaned_data["next_step_on"]
        return {"next_step": self.cleaned_data["next_step"], "next_step_on": day.isoformat() if day else None}


# Nothing is saved: the form with what is typed, so that its sums can be read.
SUMS = "sums"


@dataclass
class Typed:
    """What was typed into a part's form: the form to show, and the value if it can be kept."""

    form: RowForm | DetailsForm | NextForm
    value: dict[str, Any] | None
    faults: list[str]


def _read(request: PageRequest, deal: Deal, name: str) -> Typed:
    value = PARTS[name].read(deal, today())
    if name in ("details", "next"):
        form = (
            details_form(deal, visible(request), value, request.POST) if name == "details" else NextForm(request.POST)
        )
        good = form.is_valid()
        return Typed(form, form.cleaned() if good else None, [] if good else ["Correct the marked fields."])
    rows = read_rows(name, deal, request.POST)
    return Typed(rows, rows.value, rows.faults)


@require_http_methods(["GET", "HEAD", "POST"])
def part(request: PageRequest, key: str, name: str) -> HttpResponse:
    """The form of one part alone, and its saving."""
    deal = open_deal(request, key)
    if name not in PARTS:
        raise Http404
    if request.method != "POST":
        return _page(request, deal, name, Typed(_form_of(request, deal, name), None, []))
    typed = _read(request, deal, name)
    if request.POST.get("tool") == SUMS:
        return _page(request, deal, name, typed)
    if typed.value is None:
        return _page(request, deal, name, typed, status=422)
    try:
        _save(request, deal, name, typed.value)
    except ChangedMeanwhile as meanwhile:
        return _page(request, deal, name, typed, status=409, present=dict(meanwhile.now))
    except (WriteRefused, OldState, PermissionDenied) as refused:
        typed.faults.append(str(refused))
        return _page(request, deal, name, typed, status=403 if isinstance(refused, PermissionDenied) else 422)
    return redirect(safe_next(request, reverse("deals:deal", args=[deal.key])))


def _form_of(request: PageRequest, deal: Deal, name: str) -> Any:
    value = PARTS[name].read(deal, today())
    if name == "details":
        return details_form(deal, visible(request), value)
    return NextForm(initial=value) if name == "next" else shown_form(name, deal, value)


def _save(request: PageRequest, deal: Deal, name: str, value: Any) -> None:
    """Save a part, and remember what it was before, so that it can be undone."""
    last = last_revision(deal).pk
    who = Who(request.viewer, books.current().reference, now())
    before, after = change_part(who, deal, name, value, request.POST.get("expected", ""))
    if before != after:
        made = last_revision(deal).pk
        revision = made if made != last else 0
        values = {"key": deal.key, "part": name, "before": before, "after": after, "revision": revision}
        request.session["last_part"] = values


def _page(  # the form again, with what is there now where somebody else was quicker
    request: PageRequest, deal: Deal, name: str, typed: Typed, status: int = 200, present: dict[str, Any] | None = None
) -> HttpResponse:
    answer = {
        "deal": deal,
        "part": name,
        "words": PARTS[name].words,
        "form": typed.form,
        "sums": sums_of(typed.form, last_revision(deal).amount_minor) if isinstance(typed.form, RowForm) else None,
        "faults": typed.faults,
        "present": _present(name, deal, present) if present is not None else None,
        "expected": part_text(deal, name, today()) if status in (200, 409) else request.POST.get("expected", ""),
        "next": safe_next(request, reverse("deals:deal", args=[deal.key])),
    }
    return render(request, "deals/part.html", answer, status=status)


def _present(name: str, deal: Deal, present: dict[str, Any]) -> list[str]:
    """What somebody else saved meanwhile, a line each."""
    if "rows" not in present:
        return [f"{label.replace('_', ' ')}: {value}" for label, value in present.items() if value]
    form = shown_form(name, deal, present)
    lines = [" · ".join(cell.typed for cell in row if cell.typed) for row in form.rows]
    return [line for line in lines if line] or ["nothing"]


@require_POST
def put_back(request: PageRequest, key: str) -> HttpResponse:
    """Put back the part that this person saved last, as long as nobody changed it since."""
    deal = open_deal(request, key)
    last = request.session.get("last_part")
    if not last or last["key"] != key:
        raise Http404
    who = Who(request.viewer, books.current().reference, now())
    try:
        put_part_back(who, deal, last["part"], last)
    except (ChangedMeanwhile, OldState) as meanwhile:
        answer = {"deal": deal, "words": str(meanwhile), "next": safe_next(request, "/deals/")}
        return render(request, "deals/not_put_back.html", answer, status=409)
    del request.session["last_part"]
    return redirect(safe_next(request, reverse("deals:deal", args=[deal.key])))


def last_part(request: PageRequest, deal: Deal) -> dict[str, str] | None:
    """The part of this deal that this person saved last, if it is still so."""
    last = request.session.get("last_part")
    if not last or last["key"] != deal.key or part_text(deal, last["part"], today()) != last["after"]:
        return None
    return {"words": PARTS[last["part"]].words, "part": last["part"]}
