"""Undoing the last step of a journal, offered at the foot of the page that follows it."""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import About
from wise_tally.domain.deals.journal_undo import changed_rows, rows_of, undo_step
from wise_tally.domain.deals.models import Activity
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

STEP = "journal_step"


@contextmanager
def undoable(request: PageRequest, about: About | Activity, words: str, may_undo: bool = True) -> Iterator[None]:
    """Say in words what the step within did, and remember how to undo it."""
    before = rows_of(about)
    yield
    rows, token = changed_rows(before, rows_of(about)), secrets.token_urlsafe(6)
    request.session[STEP] = {"token": token, "rows": rows}
    # The foot of a page makes a button of the address in the tag.
    messages.success(request, words, extra_tags=reverse("customers:undo", args=[token]) if rows and may_undo else "")


@require_POST
def undo(request: PageRequest, token: str) -> HttpResponse:
    """Undo the step that was offered, as long as it is the last and nobody changed what it wrote."""
    kept = request.session.get(STEP, {})
    if kept.get("token") != token:
        raise Refused("Only the last entry can be undone. Delete an earlier one in the journal.", 409)
    try:
        undo_step(request.viewer, books.current().reference, kept["rows"], now())
    except ChangedMeanwhile:
        raise Refused(
            "The entry was changed in the meantime, so it was not undone. Look at it in the journal.", 409
        ) from None
    del request.session[STEP]
    messages.success(request, "Undone.")
    return redirect(safe_next(request, "/"))
