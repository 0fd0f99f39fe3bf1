"""The gate of every request: an identifier, one line of log about it, and how much may be sent."""

import logging
import secrets
import time
from collections.abc import Callable
from contextvars import ContextVar

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import get_template

from wise_tally.web.request.measured import REQUESTS, TIMES

REQUEST_ID: ContextVar[str] = ContextVar("request_id", default="-")
MOST_OF_A_FORM, MOST_OF_AN_UPLOAD = 1_000_000, 50_000_000
# Of what a browser can do beyond showing pages nothing is used.
CALENDAR = "/calendar/"
NOT_USED = "camera=(), geolocation=(), microphone=(), payment=(), usb=()"
log = logging.getLogger("wise_tally.requests")


class WithRequestId(logging.Filter):
    """Every record of the log carries the identifier of the request it belongs to."""

    def filter(self, record: logging.LogRecord) -> bool:
        """Put it on the record."""
        record.request_id = REQUEST_ID.get()
        return True


class GateMiddleware:
    """Outermost: names each request and writes a line about it, without its query, which may hold names."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer, and say how."""
        identifier, started = secrets.token_hex(6), time.perf_counter()
        REQUEST_ID.set(identifier)
        response = self.get_response(request)
        response.headers["X-Request-Id"] = identifier
        response.headers["Permissions-Policy"] = NOT_USED
        passed, viewer = (time.perf_counter() - started) * 1000, getattr(request, "viewer", None)
        who = viewer.key if viewer else "-"
        # The address of a calendar is a secret of its own.
        path = CALENDAR if request.path.startswith(CALENDAR) else request.path
        log.info("%s %s %s %s %.0f ms", request.method, path, who, response.status_code, passed)
        page = getattr(request.resolver_match, "view_name", None) or "none"
        REQUESTS.labels(request.method, page, response.status_code).inc()
        TIMES.labels(page).observe(passed / 1000)
        return response


def too_large(request: HttpRequest) -> HttpResponse | None:
    """The refusal of a body that is larger than may be sent, before any of it is read; files come from the signed in only."""
    length = request.META.get("CONTENT_LENGTH") or "0"
    signed_in = getattr(request, "viewer", None) is not None
    is_upload = signed_in and request.content_type == "multipart/form-data"
    most = MOST_OF_AN_UPLOAD if is_upload else MOST_OF_A_FORM
    if length.isdecimal() and int(length) <= most:
        return None
    return render(request, "413.html", {"most": most // 1_000_000, "signed_in": signed_in}, status=413)


def client_address(request: HttpRequest) -> str:
    """Where a request comes from: behind the proxies that the operator named, what the last of them says of it."""
    address: str = request.META.get("REMOTE_ADDR", "")
    passed_on = [part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",") if part.strip()]
    while address in settings.TRUSTED_PROXIES and passed_on:
        address = passed_on.pop()
    return address


def broken(request: HttpRequest) -> HttpResponse:
    """What somebody sees when a page fails: that it was written down, under which identifier. Asks nothing of the database."""
    page = get_template("500.html").render({"request_id": REQUEST_ID.get()})
    return HttpResponse(page, status=500)
