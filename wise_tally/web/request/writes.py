"""Writes take turns: who waits for the database is few and waits shortly, so that readers always find a thread."""

import time
from collections.abc import Callable
from contextlib import suppress
from threading import BoundedSemaphore

from django.http import HttpRequest, HttpResponse, UnreadablePostError
from django.shortcuts import render

from wise_tally.web.request.measured import REFUSED, WAITS
from wise_tally.web.request.typed_again import saved_page

BUSY = "An import is running, so your change was not saved. Go back and save again in a minute; your entries are still there."
IMPORT_RUNS = "An import is running, so your change was not saved. Save again in a minute."
PATIENCE, AGAIN_AFTER = 2.0, 5
"""Seconds that a write waits for the one before it in the same process, and after which it is worth another try."""
SAFE = ("GET", "HEAD", "OPTIONS")


class WritesInTurn:
    """One request of a process writes at a time; the next waits a little, then is refused with a message."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        self.turn = BoundedSemaphore()

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer at one's turn."""
        if request.method in SAFE:
            return self.get_response(request)
        # Read before the turn begins: who sends slowly keeps nobody else waiting.
        with suppress(UnreadablePostError):
            request.POST  # noqa: B018 - read for what it keeps
        began = time.perf_counter()
        has_turn = self.turn.acquire(timeout=PATIENCE)
        WAITS.observe(time.perf_counter() - began)
        if not has_turn:
            return busy(request)
        try:
            return self.get_response(request)
        finally:
            self.turn.release()


def busy(request: HttpRequest) -> HttpResponse:
    """A form shows again what was typed, to be sent once more; any other request learns when to come back."""
    answer = saved_page(request, IMPORT_RUNS, 503) or render(request, "web/refused.html", {"message": BUSY}, status=503)
    REFUSED.inc()
    answer.headers["Retry-After"] = str(AGAIN_AFTER)
    return answer
