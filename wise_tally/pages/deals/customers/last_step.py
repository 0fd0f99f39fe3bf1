"""Undoing the last step about a deal, an account or a lead, offered at the foot of the page that follows it."""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.contrib import messages
from django.db import transaction
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import About
from wise_tally.domain.deals.last_step import changed_rows, rows_of, undo_step
from wise_tally.domain.deals.revert import AT_ONCE
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.records import ChangedMeanwhile, InUse
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

STEP = "last_step"


@contextmanager
def undoable(request: PageRequest, about: About | None, words: str, may_undo: bool = True) -> Iterator[None]:
    """Say in words what the step within did, and remember how to undo it."""
    # Nothing that somebody else writes meanwhile belongs to the step.
    with transaction.atomic():
        before = rows_of(about)
        yield
        after = rows_of(about)
    offer_undo(request, about, words, changed_rows(before, after) if may_undo else [])


def offer_undo(request: PageRequest, about: About | None, words: str, rows: list[Any]) -> None:
    """Say what was done, with a button that puts the rows back; without rows there is nothing to undo."""
    token = secrets.token_urlsafe(6)
    is_about = [type(about).__name__.lower(), about.key] if about else []
    request.session[STEP] = {"token": token, "about": is_about, "rows": rows, "at": now().timestamp()}
    # The foot of a page makes a button of the address in the tag.
    messages.success(request, words, extra_tags=reverse("customers:undo", args=[token]) if rows else "")


@require_POST
def undo(request: PageRequest, token: str) -> HttpResponse:
    """Undo the step that was offered, within the hour, as long as it is the last and nobody changed what it wrote."""
    step = request.session.get(STEP, {})
    if step.get("token") != token or now().timestamp() - step["at"] > AT_ONCE.total_seconds():
        raise Refused("Only the last step can be undone, within an hour.", 409)
    kind, key = step["about"]
    # What may not be opened any more looks like what is not there.
    about = getattr(visible(request), kind)(key)
    try:
        undo_step(request.viewer, books.current().reference, about, step["rows"], now())
    except (ChangedMeanwhile, InUse):
        raise Refused("Something was changed or added in the meantime, so this was not undone.", 409) from None
    del request.session[STEP]
    messages.success(request, "Undone.")
    back = safe_next(request, "/")
    # Not to the page of a record that is there no more.
    own = "" if type(about)._default_manager.filter(key=key).exists() else reverse(f"customers:{kind}", args=[key])
    return redirect(reverse(f"customers:{kind}s") if own and back.startswith(own) else back)
