"""A form that is sent twice, by a double click or over a poor line, is done once; who sent it is led where it led."""

import time
from collections.abc import Callable
from contextlib import suppress
from hashlib import sha256

from django.db import DatabaseError, OperationalError
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect, UnreadablePostError

from wise_tally.domain.database import is_busy
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.sent_forms import begin_form, end_form, form_led_to
from wise_tally.web.request.typed_again import is_page_asked
from wise_tally.web.request.writes import PATIENCE, busy

TOKEN, GLANCE = "csrfmiddlewaretoken", 0.05
# A refusal leads back by another one.
DONE = 302


class SentOnce:
    """Forms of pages only: what scripts send may be repeated on purpose, and names the state it was made from."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer what is sent for the first time; else wait for what the first one leads to."""
        mark = _mark(request)
        if not mark:
            return self.get_response(request)
        try:
            is_first = begin_form(mark, now())
        except DatabaseError as error:
            if is_busy(error):
                return busy(request)
            raise
        if not is_first:
            return _like_the_first(request, mark)
        answer = self.get_response(request)
        # What was done stays done; whoever sends it again meanwhile learns that a write is running.
        with suppress(OperationalError):
            end_form(mark, answer.headers["Location"] if answer.status_code == DONE else "")
        return answer


def _mark(request: HttpRequest) -> str:
    """What identifies a form as it was drawn and filled in: each has a token of its own. Empty for what may be sent again."""
    signed_in = getattr(request, "viewer", None) is not None
    try:
        if request.method != "POST" or not signed_in or not is_page_asked(request) or TOKEN not in request.POST:
            return ""
    except UnreadablePostError:
        return ""
    files = [(name, one.name, one.size) for name, several in request.FILES.lists() for one in several]
    sent = (request.get_full_path(), sorted(request.POST.lists()), files)
    return sha256(repr(sent).encode()).hexdigest()


def _like_the_first(request: HttpRequest, mark: str) -> HttpResponse:
    until = time.monotonic() + PATIENCE
    while time.monotonic() < until:
        if address := form_led_to(mark):
            return HttpResponseRedirect(address)
        time.sleep(GLANCE)
    return busy(request)
