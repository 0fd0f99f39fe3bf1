"""Changing several deals of the list: what would change is shown first, the last such change can be undone."""

from dataclasses import replace
from typing import Any

from django import forms
from django.contrib import messages
from django.db.models import Q, QuerySet
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.actions import NO_CLOSING, Closing
from wise_tally.domain.deals.bulk import MOST, BulkEdit, BulkRefused, Changed, bulk_change, put_back
from wise_tally.domain.deals.difference import difference
from wise_tally.domain.formats import plural
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.process.models import Category, LostReason, Stage, StageKind
from wise_tally.pages.deals.listing import listing
from wise_tally.web.deal_rows import deal_rows
from wise_tally.web.filter_line import read_scope
from wise_tally.web.forms.choices import LongSelect, not_listed, typed_key
from wise_tally.web.forms.deal import ClosingForm, read_closing
from wise_tally.web.forms.fields import DateField, LedgerForm
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


class RecordChoice(forms.ModelChoiceField):
    """A choice among records by identifier and name, a stage with its process; nothing chosen changes nothing."""

    def __init__(self, records: QuerySet[Any], label: str, kind: str = "") -> None:
        super().__init__(
            records,
            required=False,
            to_field_name="key",
            empty_label="no change",
            label=label,
            widget=LongSelect(kind),
            error_messages=not_listed(label),
        )

    def clean(self, value: Any) -> Any:
        """The record of what was typed."""
        return super().clean(typed_key(self.choices, value))

    def label_from_instance(self, obj: Any) -> str:
        """How a record is written."""
        return f"{obj.process.name}: {obj.name}" if isinstance(obj, Stage) else str(obj.name)


class BulkForm(LedgerForm):
    """New values for several deals; what is left empty stays as it is."""

    stage = RecordChoice(
        Stage.objects.filter(retired=False).select_related("process").order_by("process__key", "position", "key"),
        "Stage",
    )
    owner = RecordChoice(Person.objects.filter(active_to=None).order_by("name"), "Owner", "people")
    expected_close = DateField(label="Expected close")
    category = RecordChoice(Category.objects.order_by("rank"), "Category")
    territory = RecordChoice(Territory.objects.offered().order_by("name"), "Territory", "territories")

    def edit(self) -> BulkEdit:
        """The change; Refused where a value is none of its field, or nothing is chosen."""
        edit = BulkEdit(**self.values())
        if edit.is_empty:
            raise Refused("Choose at least one change: stage, owner, close date, category or territory.", 422)
        return edit


def bulk(request: PageRequest) -> HttpResponse:
    """Show what would change, change it, or put the last such change back."""
    if request.POST.get("what") == "undo":
        return _undo(request)
    expected = _chosen(request)
    _require_open(request, list(expected))
    edit = BulkForm(request.POST).edit()
    viewer, reference = request.viewer, books.current().reference
    closing = _closing(request, edit)
    confirmed = "confirmed" in request.POST and not (closing and closing.is_asked)
    try:
        changes = bulk_change(viewer, reference, expected, edit, now(), _closing_tried(closing), dry=not confirmed)
    except BulkRefused as refused:
        return _preview(request, expected, [], refused.faults, closing)
    if not confirmed:
        return _preview(request, expected, changes, [], closing)
    request.session["last_bulk"] = [(c.deal.key, c.after.pk) for c in changes]
    return redirect(safe_next(request, reverse("deals:page")))


def _closing(request: PageRequest, edit: BulkEdit) -> ClosingForm | None:
    """What closing the deals needs, where they are to be won or lost."""
    if edit.stage is None or edit.stage.kind == StageKind.OPEN:
        return None
    return read_closing(request.POST, edit.stage.kind, edit.stage.name)


def _closing_tried(form: ClosingForm | None) -> Closing:
    """The closing as typed; for a preview before it was typed any reason serves, for nothing is kept."""
    if form is None:
        return NO_CLOSING
    return form.closing if form.closing.lost_reason else replace(form.closing, lost_reason="reason asked below")


def _chosen(request: PageRequest) -> dict[str, int]:
    """Identifier → revision expected of the ticked deals."""
    expected = _of_the_list(request) if "all" in request.POST else {}
    for text in request.POST.getlist("deal") if not expected else ():
        number, _, key = text.partition(":")
        if (revision := whole_number(number)) is not None and key:
            expected[key] = revision
    if not expected or len(expected) > MOST:
        raise Refused(f"{len(expected)} deals are selected. Select 1 to {MOST} at once.", 422)
    return expected


def _of_the_list(request: PageRequest) -> dict[str, int]:
    """Identifier → revision of every deal of the list in the address that the viewer may change."""
    line = read_scope(request)
    deal_list = listing(line, request)
    if deal_list.total > MOST:
        raise Refused(
            f"The list holds {deal_list.total} deals; up to {MOST} can be changed at once. Narrow it first.", 422
        )
    rows = deal_rows(line, deal_list.all_places.tolist(), request.viewer)
    return {row.key: row.revision for row in rows.values() if row.may_change}


def _require_open(request: PageRequest, keys: list[str]) -> None:
    """A deal that the viewer may not open looks like one that does not exist."""
    if len(visible(request).deals(Q(key__in=keys))) < len(keys):
        raise Refused("One of these deals is not there; load the list again and tick the deals it shows.", 404)


def _preview(
    request: PageRequest,
    expected: dict[str, int],
    changes: list[Changed],
    faults: list[tuple[Any, str]],
    closing: ClosingForm | None,
) -> HttpResponse:
    wrong = list(closing.faults.values()) if closing else []
    answer = {
        "closing": closing,
        "wrong": wrong,
        "today": today(),
        "lost_reasons": LostReason.objects.offered().order_by("name") if closing else [],
        "changes": [(change, difference(change.before, change.after)) for change in changes],
        "faults": faults,
        "unchanged": len(expected) - len(changes),
        "posted": [(name, request.POST.get(name, "")) for name in (*BulkForm.base_fields, "next")],
        "deals": [f"{revision}:{key}" for key, revision in expected.items()],
        "past_close": next((c.after.expected_close for c in changes if _newly_past(c)), None),
        "back": safe_next(request, reverse("deals:page")),
    }
    return render(request, "deals/bulk.html", answer, status=422 if faults or wrong else 200)


def _newly_past(change: Changed) -> bool:
    """Whether a deal would be given an expected close that is past."""
    close = change.after.expected_close
    return close is not None and close != change.before.expected_close and close < today()


def _undo(request: PageRequest) -> HttpResponse:
    changes = request.session.get("last_bulk", [])
    try:
        count = put_back(request.viewer, books.current().reference, [tuple(row) for row in changes], now())
    except BulkRefused as refused:
        names = ", ".join(deal.name for deal, _ in refused.faults[:5])
        raise Refused(f"Nothing was undone. {names}: {refused.faults[0][1]}", 409) from refused
    request.session["last_bulk"] = []
    messages.success(request, f"{plural(count, 'deal')} restored.")
    return redirect(safe_next(request, reverse("deals:page")))
