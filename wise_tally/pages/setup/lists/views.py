"""Pages of the lists of setup: one table with a form to add, one page to change or take away an entry."""

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.domain.org.clock import now
from wise_tally.domain.org.records import ChangedMeanwhile, as_text, put_in_order, values_of
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.setup.lists.registers import REGISTERS, Register
from wise_tally.pages.setup.ordering import order_of
from wise_tally.pages.setup.people.hand_over import may_undo
from wise_tally.pages.setup.people.parts import more_of
from wise_tally.web.paging import SIDE_BY_SIDE, paged
from wise_tally.web.request.viewing import PageRequest


def register_of(slug: str) -> Register:
    """The list of an address."""
    if slug not in REGISTERS:
        raise Http404
    return REGISTERS[slug]


@require_http_methods(["GET", "HEAD", "POST"])
def entries(request: PageRequest, slug: str) -> HttpResponse:
    """All entries, those in use without being listed, and a form to add one."""
    register, viewer = register_of(slug), request.viewer
    form = register.form(initial={"name": request.GET.get("name", "")})
    if request.method == "POST":
        viewer.require(register.right)
        form = register.form(request.POST)
        if form.is_valid() and (made := saved(request, register, None, form)):
            messages.success(request, f"{made.name} was added.")
            return redirect("setup:entries", slug=slug)
    answer = {"register": register, **_rows(request, register), "form": form, "may_edit": viewer.may(register.right)}
    return render(request, "setup/entries.html", answer, status=422 if form.errors else 200)


def _rows(request: PageRequest, register: Register) -> dict[str, Any]:
    """A page of the entries, and the texts in use that are not listed; what is put in order by hand stands on one page."""
    uses, records = register.uses(), list(register.records)
    shown, turned = paged(request, records, "", max(len(records), 1) if register.order_field else SIDE_BY_SIDE)
    rows = [
        {"record": record, "cells": [value(record) for _, value in register.columns], "uses": uses.get(record.name, 0)}
        for record in shown
    ]
    listed = {record.name for record in records}
    unlisted = sorted((text, count) for text, count in uses.items() if text not in listed)
    return {**turned, "rows": rows, "unlisted": unlisted}


def saved(request: PageRequest, register: Register, key: str | None, form: Any) -> Any:
    """The record as saved; None with the fault put on the form."""
    try:
        return register.keep(request.viewer, key, form.cleaned_data, now(), request.POST.get("expected", ""))
    except WriteRefused as refused:
        form.add_error(None, str(refused))
    except ChangedMeanwhile as changed:
        for name, value in changed.otherwise(request.POST.get("expected", "")).items():
            form.add_error(name, f"Somebody else has changed this to “{value}”. Save again to overwrite.")
        form.add_error(None, "Not saved: somebody else has changed this. Your entries are below.")
    return None


@require_POST
def order(request: PageRequest, slug: str) -> HttpResponse:
    """Put the entries in the order of `order`, or one of them a place up or down."""
    register, viewer = register_of(slug), request.viewer
    viewer.require(register.right)
    if not register.order_field:
        raise Http404
    keys = [record.key for record in register.records]
    gone = "This entry is not there any more. Load the page again."
    keys = order_of(request.POST.dict(), keys, request.POST.get("key", ""), gone)
    put_in_order(viewer, register.model, register.order_field, keys, now())
    return redirect("setup:entries", slug=slug)


@require_http_methods(["GET", "HEAD", "POST"])
def entry(request: PageRequest, slug: str, key: str) -> HttpResponse:
    """One entry: change its values."""
    register, viewer = register_of(slug), request.viewer
    record: Any = get_object_or_404(register.model, key=key)
    before = values_of(record, list(register.form.base_fields))
    form = register.form(request.POST if request.method == "POST" else None, initial=before, key=key)
    if request.method == "POST":
        viewer.require(register.right)
        if form.is_valid() and saved(request, register, key, form):
            messages.success(request, "Saved.")
            return redirect("setup:entry", slug=slug, key=key)
    answer = {
        **{"register": register, "record": record, "form": form},
        "expected": as_text(before),
        "may_edit": viewer.may(register.right),
        **more_of(viewer, slug, record),
        "may_take_back": slug == "people" and may_undo(request, key),
    }
    return render(request, "setup/entry.html", answer, status=422 if form.errors else 200)


@require_POST
def remove(request: PageRequest, slug: str, key: str) -> HttpResponse:
    """Take an entry away that nothing refers to."""
    register, viewer = register_of(slug), request.viewer
    viewer.require(register.right)
    get_object_or_404(register.model, key=key)
    register.remove(viewer, key, now())
    messages.success(request, "Deleted.")
    return redirect("setup:entries", slug=slug)
