"""Nothing typed is lost: what a form sent that was refused, or whose sign-in had run out, is kept for its page."""

from typing import Any
from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.middleware.csrf import REASON_NO_CSRF_COOKIE
from django.shortcuts import redirect, render
from django.urls import Resolver404, resolve
from django.views.decorators.csrf import requires_csrf_token
from django.views.decorators.http import require_http_methods

from wise_tally.web.request.sessions import WAS

MOST_SIGNS = 50_000
HIDDEN = ("csrfmiddlewaretoken", "password")
TYPED, REFUSED = "typed", "refused"
EXPIRED = "Your session had expired, so nothing was saved. Check your entries and save again."
OTHER_ADDRESS = (
    "The form came from another address than the server knows itself by, so nothing was changed. If this is the right page,"
    " the proxy in front does not say that it is reached over TLS; ask whoever runs the server to set WISE_TALLY_TLS_HEADER."
)
NO_COOKIE = (
    "The browser sent no cookie, so nothing was changed. Allow cookies for this address, load the page again, and send the"
    " form once more."
)


def _from_own_page(request: HttpRequest) -> bool:
    """Whether the form stood on one of our own pages."""
    origin = request.META.get("HTTP_ORIGIN") or request.META.get("HTTP_REFERER", "")
    return urlsplit(origin).netloc == request.get_host()


def _fields(request: HttpRequest) -> list[tuple[str, str]]:
    """What a form sent, but for passwords and what is too much to keep."""
    fields = [(name, value) for name in request.POST for value in request.POST.getlist(name) if name not in HIDDEN]
    return fields if sum(len(name) + len(value) for name, value in fields) <= MOST_SIGNS else []


def is_page_asked(request: HttpRequest) -> bool:
    """Whether the browser asks for a page to be shown, not a script for an answer."""
    scripts = ("X-In-Place", "X-Saves-Itself", "X-Alpine-Request", "X-Follow")
    return request.headers.get("Sec-Fetch-Mode", "navigate") == "navigate" and not any(
        name in request.headers for name in scripts
    )


def back_with_refusal(request: HttpRequest, message: str) -> HttpResponse | None:
    """Back to the page of the form that was refused, which then shows why, with what was typed; None where there is none."""
    page = urlsplit(request.META.get("HTTP_REFERER", ""))
    if request.method != "POST" or page.netloc != request.get_host() or not is_page_asked(request):
        return None
    fields = [(name, value) for name, value in _fields(request) if name != "expected"]
    request.session[REFUSED] = {"path": request.get_full_path(), "fields": fields, "message": message}
    return HttpResponseRedirect(page.path + (f"?{page.query}" if page.query else ""), status=303)


def refusal_of(request: HttpRequest) -> dict[str, Any] | None:
    """Why the form of this page was refused; shown once."""
    if request.method != "GET" or not hasattr(request, "session") or not is_page_asked(request):
        return None
    return request.session.pop(REFUSED, None) if REFUSED in request.session else None


def keep_typed(request: HttpRequest) -> bool:
    """Keep in the session what a form of ours sent, for the person whose sign-in it was; returns whether anything was kept.

    Files and passwords are not, and nothing of somebody who was not signed in before.
    """
    whose = request.user.pk or request.session.get(WAS)
    if request.method != "POST" or whose is None or not _from_own_page(request):
        return False
    fields = _fields(request)
    if not fields:
        return False
    request.session[TYPED] = {"path": request.get_full_path(), "fields": fields, "whose": whose}
    return True


def is_saved_for(request: HttpRequest) -> bool:
    """Whether something typed by who is signed in now is kept."""
    saved = request.session.get(TYPED)
    return saved is not None and saved["whose"] == request.user.pk


@require_http_methods(["GET", "HEAD", "POST"])
def typed(request: HttpRequest) -> HttpResponse:
    """What was typed before the sign-in ran out: send it again, or drop it."""
    if request.method == "POST" or not is_saved_for(request):
        request.session.pop(TYPED, None)
        return redirect("home")
    return _page(request, 200)


def saved_page(request: HttpRequest, message: str, status: int) -> HttpResponse | None:
    """What a form of ours sent, to be sent once more by who is signed in, and why; None where nothing can be kept."""
    if not is_page_asked(request) or getattr(request, "viewer", None) is None or not keep_typed(request):
        return None
    return _page(request, status, message)


def _page(request: HttpRequest, status: int, message: str = EXPIRED) -> HttpResponse:
    saved = request.session[TYPED]
    try:
        resolve(urlsplit(saved["path"]).path)
    except Resolver404:
        request.session.pop(TYPED)
        return redirect("home")
    shown = [(name, value) for name, value in saved["fields"] if value and name not in ("expected", "next", "revision")]
    return render(request, "web/typed.html", {"kept": saved, "shown": shown, "message": message}, status=status)


@requires_csrf_token
def stale_form(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A form from before somebody signed in again in this browser: what it holds is shown, to be sent once more.

    Otherwise the message names the fault: what a proxy or the browser keeps back, or that the form is too old.
    """
    if page := saved_page(request, EXPIRED, 403):
        return page
    message = "This form is too old to be saved. Go back, load the page again, and send it once more."
    if reason == REASON_NO_CSRF_COOKIE:
        message = NO_COOKIE
    elif reason.startswith(("Origin", "Referer")):
        message = OTHER_ADDRESS
    return render(request, "web/refused.html", {"message": message}, status=403)
