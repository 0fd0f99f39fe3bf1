"""What watches over the server asks here: `/health/`, `/ready/` and `/metrics`. Nobody signs in for them, and no page is slower."""

import hmac
import os
import shutil
from collections.abc import Callable
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse, JsonResponse
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, generate_latest, multiprocess

from wise_tally.book.store import books
from wise_tally.domain.org.models import BookNumber
from wise_tally.domain.storage_faults import words_of
from wise_tally.web.request.gate import client_address
from wise_tally.web.request.measured import REGISTRY, measure_process

LEAST_FREE = 200_000_000
LOCAL = ("127.0.0.1", "::1", "")


class MonitoringMiddleware:
    """Outermost: its answers need no session, no host name and no TLS, as those who ask come from beside the server."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """One of the three, else the page."""
        answer = {"/health/": health, "/ready/": ready, "/metrics": metrics}.get(request.path)
        return answer(request) if answer else self.get_response(request)


def health(request: HttpRequest) -> HttpResponse:
    """The process answers; nothing else is asked."""
    return HttpResponse("ok\n", content_type="text/plain")


def ready(request: HttpRequest) -> HttpResponse:
    """Whether database, book and disk do; 503 with what does not."""
    wrong = {name: fault for name, look in (("database", _database), ("disk", _disk)) if (fault := look())}
    return JsonResponse({"ready": not wrong, **wrong}, status=503 if wrong else 200)


def _database() -> str:
    try:
        BookNumber.objects.filter(pk=1).exists()
        books.stored()
    except (DatabaseError, OSError) as error:
        return words_of(error) or "The database does not answer."
    return ""


def _disk() -> str:
    free = shutil.disk_usage(Path(settings.WORK_FOLDER)).free
    return "" if free >= LEAST_FREE else f"{free // 1_000_000} MB are free; make room."


def metrics(request: HttpRequest) -> HttpResponse:
    """Counts of all workers as Prometheus reads them; for this machine, or who knows WISE_TALLY_METRICS_TOKEN."""
    token, given = settings.METRICS_TOKEN, request.headers.get("Authorization", "").removeprefix("Bearer ")
    by_token = bool(token) and hmac.compare_digest(token.encode(), given.encode())
    if not by_token and (client_address(request) not in LOCAL or request.headers.get("X-Forwarded-For")):
        return HttpResponse("Ask from this machine, or with the token.\n", status=403, content_type="text/plain")
    measure_process(books.number_in_memory())
    registry = REGISTRY
    if os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        registry = CollectorRegistry()
        multiprocess.MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    return HttpResponse(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)
