"""Activities and notes about a deal, an account or a lead: written down where they are read."""

from collections.abc import Mapping
from typing import Any

from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import (
    About,
    about_of,
    add_activity,
    add_note,
    assignee,
    change_activity,
    take_activity_away,
    take_note_away,
)
from wise_tally.domain.org.clock import now
from wise_tally.pages.deals.customers.forms import ActivityForm, noon_of
from wise_tally.pages.deals.customers.journal import assignees
from wise_tally.pages.deals.customers.last_step import undoable
from wise_tally.web.forms.choices import key_of
from wise_tally.web.forms.fields import DateField, LedgerForm, forms
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

ABOUT = ("deal", "account", "lead")


def _opened(request: PageRequest, name: str, key: str) -> About:
    """The deal, account or lead of an identifier; raises Http404, also where it is not open."""
    may_see = visible(request)
    if name == "deal":
        return may_see.deal(key, "account")
    return may_see.account(key) if name == "account" else may_see.lead(key)


def opened_about(request: PageRequest) -> About:
    """What the form is about; what the viewer may not open looks like what is not there."""
    for name in ABOUT:
        if key := request.POST.get(name):
            return _opened(request, name, key)
    raise Refused("Choose a deal, an account or a lead.")


def _refused(request: PageRequest, form: Any, words: str, action: str, about: dict[str, str]) -> HttpResponse:
    answer = {"form": form, "words": words, "action": action, "about": about, "next": safe_next(request, "/")}
    return render(request, "customers/again.html", answer, status=422)


def _hidden(request: PageRequest) -> dict[str, str]:
    return {name: request.POST[name] for name in ABOUT if request.POST.get(name)}


@require_POST
def add(request: PageRequest) -> HttpResponse:
    """Write an activity down or plan one; of the kind “note”, keep a note."""
    about = opened_about(request)
    if request.POST.get("kind") == "note":
        return _add_note(request, about, {"text": request.POST.get("subject", "")})
    form = ActivityForm(request.POST)
    if not form.is_valid():
        return _refused(request, form, "The activity was not saved.", request.path, _hidden(request))
    values = form.cleaned()
    if (typed := form.cleaned_data["person"]) and values["status"] == "planned":
        key = key_of(assignees(request.viewer), typed)
        values["person"] = assignee(request.viewer, books.current().reference, key, now())
    with undoable(request, about, "Planned." if values["status"] == "planned" else "Added to the journal."):
        add_activity(request.viewer, books.current().reference, about, values, now())
    return redirect(safe_next(request, "/"))


class PutOffForm(LedgerForm):
    """The day an activity is put off to."""

    on = DateField(label="New date")
    what = forms.CharField(widget=forms.HiddenInput, initial="put off")

    def clean_on(self) -> Any:
        """A day is needed."""
        if self.cleaned_data["on"] is None:
            raise forms.ValidationError("Choose a date.")
        return self.cleaned_data["on"]


# What may become of an activity, and the message then.
CHANGES = {
    "done": "Marked as done.",
    "open again": "Planned again.",
    "put off": "Rescheduled.",
    "away": "Activity deleted.",
}


@require_POST
def change(request: PageRequest, key: str) -> HttpResponse:
    """Mark an activity as done, put it off to a day, open it again, or take it away."""
    activity = visible(request).activity(key)
    viewer, reference = request.viewer, books.current().reference
    what, form = request.POST.get("what", ""), PutOffForm(request.POST)
    if what not in CHANGES:
        raise Refused(f"“{what[:20]}” is not valid. Choose done, reopen, reschedule or delete.")
    if what == "put off" and not form.is_valid():
        return _refused(request, form, "The activity was not rescheduled.", request.path, {})
    with undoable(request, about_of(activity), CHANGES[what]):
        if what == "away":
            take_activity_away(viewer, reference, activity, now())
        elif what == "done":
            change_activity(viewer, reference, activity, {"status": "done", "at": min(now(), activity.at)}, now())
        else:
            moved = {"at": noon_of(form.cleaned_data["on"])} if what == "put off" else {}
            change_activity(viewer, reference, activity, {**moved, "status": "planned"}, now())
    return redirect(safe_next(request, "/"))


class NoteForm(LedgerForm):
    """A note."""

    text = forms.CharField(label="Note", max_length=10_000, widget=forms.Textarea(attrs={"rows": 3}))


@require_POST
def add_a_note(request: PageRequest) -> HttpResponse:
    """Write a note."""
    return _add_note(request, opened_about(request), request.POST)


def _add_note(request: PageRequest, about: About, typed: Mapping[str, str]) -> HttpResponse:
    form = NoteForm(typed)
    if not form.is_valid():
        return _refused(request, form, "The note was not saved.", reverse("customers:add-note"), _hidden(request))
    with undoable(request, about, "Added to the journal."):
        add_note(request.viewer, books.current().reference, about, form.cleaned_data["text"], now())
    return redirect(safe_next(request, "/"))


@require_POST
def note_away(request: PageRequest, key: str) -> HttpResponse:
    """Take a note away; its text stays in the audit."""
    note = visible(request).note(key)
    with undoable(request, about_of(note), "Note deleted."):
        take_note_away(request.viewer, books.current().reference, note, now())
    return redirect(safe_next(request, "/"))
