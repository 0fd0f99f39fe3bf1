"""Every request: who is asking, and refusals as pages instead of faults."""

import logging
from collections.abc import Callable
from contextlib import suppress
from urllib.parse import urlencode

from django.core.exceptions import PermissionDenied
from django.db import DatabaseError, OperationalError
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import redirect, render
from django.urls import reverse

from wise_tally.core.errors import CoreError
from wise_tally.domain.database import is_busy
from wise_tally.domain.formats import use_workspace
from wise_tally.domain.org.access import Viewer, has_left, viewer_of
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person, Workspace
from wise_tally.domain.refusals import WriteConflict, WriteRefused
from wise_tally.domain.storage_faults import words_of
from wise_tally.web.request.gate import too_large
from wise_tally.web.request.refusals import BadLink, NothingYet, Refused
from wise_tally.web.request.sessions import keep_or_end
from wise_tally.web.request.typed_again import back_with_refusal, keep_typed
from wise_tally.web.request.writes import busy

API = "/api/"
OPEN_TO_ALL = ("sign-in", "sign-out", "demo-sign-in", "calendar-feed", "unsubscribe")
log = logging.getLogger("wise_tally.seen")


def note(viewer: Viewer, what: str, detail: str) -> None:
    """Write down what was read or tried, in the audit and the log; while something large is being written, in the log alone."""
    log.info("%s: %s %s", viewer.key, what, detail.partition("?")[0])
    with suppress(OperationalError):
        audit(viewer, what, detail[:2_000], now())


class WorkspaceMiddleware:
    """Attach `request.viewer`; only the sign-in pages are open to others."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer the request with the workspace and the viewer known."""
        with Workspace.held() as workspace:
            use_workspace(workspace.currency, workspace.time_zone, workspace.decimal_sign, workspace.day_order)
            return self._answer(request)

    def _answer(self, request: HttpRequest) -> HttpResponse:
        person = None
        if request.user.is_authenticated:
            person = Person.objects.filter(user=request.user).first()
            keep_or_end(request, person)
        viewer = None
        if person and request.user.is_authenticated and not has_left(person, today()):
            viewer = viewer_of(person)
        request.viewer, request.person = viewer, person  # type: ignore[attr-defined]
        response = too_large(request) or self.get_response(request)
        if viewer and "attachment" in response.headers.get("Content-Disposition", ""):
            note(viewer, "file taken", request.get_full_path())
        # Back in the browser asks again instead of showing what was true before.
        response.headers.setdefault("Cache-Control", "no-store")
        return response

    def process_view(self, request: HttpRequest, view: object, args: object, kwargs: object) -> HttpResponse | None:
        """Send anybody who is not a person of the workspace to the sign-in."""
        name = request.resolver_match.url_name if request.resolver_match else None
        if request.path.startswith(API):
            # The interface knows people by their tokens alone.
            return None
        if name in OPEN_TO_ALL:
            return None
        if request.viewer is not None:  # type: ignore[attr-defined]
            must_change = request.person.must_change_password  # type: ignore[attr-defined]
            return redirect("password") if must_change and name != "password" else None
        keep_typed(request)
        return redirect(f"{reverse('sign-in')}?{urlencode({'next': request.get_full_path()})}")

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """A refusal says what was wrong and what is accepted."""
        if isinstance(error, BadLink) and request.method == "GET":
            answer = {"message": str(error), "part": _part_with(error.text, request.GET)}
            return render(request, "web/bad_link.html", answer, status=error.status)
        if isinstance(error, Refused | CoreError | WriteRefused):
            status = _status_of(error)
            return back_with_refusal(request, str(error)) or render(
                request, "web/refused.html", {"message": str(error)}, status=status
            )
        if isinstance(error, NothingYet):
            answer = {"message": str(error), "link_words": error.step, "address": reverse(error.address)}
            return render(request, "web/nothing_yet.html", answer)
        if is_busy(error):
            return busy(request)
        if isinstance(error, DatabaseError | OSError) and (words := words_of(error)):
            log.exception("The machine refused")
            return render(request, "web/refused.html", {"message": words}, status=503)
        if isinstance(error, PermissionDenied):
            note(request.viewer, "request denied", f"{request.method} {request.path}")  # type: ignore[attr-defined]
            back = back_with_refusal(request, str(error)) if str(error) else None
            return back or render(request, "web/refused.html", {"message": str(error)}, status=403)
        return None


def _status_of(error: Refused | CoreError | WriteRefused) -> int:
    if isinstance(error, Refused):
        return error.status
    return 409 if isinstance(error, WriteConflict) else 422 if isinstance(error, WriteRefused) else 400


def _part_with(text: str, query: QueryDict) -> str:
    """The part of an address that holds a text, such as by=foo; empty where none does."""
    parts = (f"{name}={value[:60]}" for name, values in query.lists() for value in values if text and text in value)
    return next(parts, "")
