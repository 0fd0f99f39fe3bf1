"""Nothing typed is lost: what a form sent after its sign-in had run out is kept until the person is back."""

from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import REASON_NO_CSRF_COOKIE
from django.shortcuts import redirect, render
from django.urls import Resolver404, resolve
from django.views.decorators.csrf import requires_csrf_token
from django.views.decorators.http import require_http_methods

from wise_tally.web.request.sessions import WAS

MOST_SIGNS = 50_000
HIDDEN = ("csrfmiddlewaretoken", "password")
KEPT = "typed"
OTHER_ADDRESS = (
    "The form came from another address than the server knows itself by, so nothing was changed. If this is the right page,"
    " the proxy in front does not say that it is reached over TLS; ask whoever runs the server to set WISE_TALLY_TLS_HEADER."
)
NO_COOKIE = (
    "The browser sent no cookie, so nothing was changed. Allow cookies for this address, load the page again, and send the"
    " form once more."
)


def _from_here(request: HttpRequest) -> bool:
    """Whether the form stood on one of our own pages."""
    origin = request.META.get("HTTP_ORIGIN") or request.META.get("HTTP_REFERER", "")
    return urlsplit(origin).netloc == request.get_host()


def keep_typed(request: HttpRequest) -> bool:
    """Keep in the session what a form of ours sent, for the person whose sign-in it was; says whether anything was kept.

    Files and passwords are not, and nothing of somebody who was not signed in before.
    """
    whose = request.user.pk or request.session.get(WAS)
    if request.method != "POST" or whose is None or not _from_here(request):
        return False
    fields = [(name, value) for name in request.POST for value in request.POST.getlist(name) if name not in HIDDEN]
    if not fields or sum(len(name) + len(value) for name, value in fields) > MOST_SIGNS:
        return False
    request.session[KEPT] = {"path": request.get_full_path(), "fields": fields, "whose": whose}
    return True


def is_kept_for(request: HttpRequest) -> bool:
    """Whether something typed by who is signed in now is kept."""
    kept = request.session.get(KEPT)
    return kept is not None and kept["whose"] == request.user.pk


@require_http_methods(["GET", "HEAD", "POST"])
def typed(request: HttpRequest) -> HttpResponse:
    """What was typed before the sign-in ran out: send it again, or drop it."""
    if request.method == "POST" or not is_kept_for(request):
        request.session.pop(KEPT, None)
        return redirect("home")
    return _page(request, 200)


def _page(request: HttpRequest, status: int) -> HttpResponse:
    kept = request.session[KEPT]
    try:
        resolve(urlsplit(kept["path"]).path)
    except Resolver404:
        request.session.pop(KEPT)
        return redirect("home")
    shown = [(name, value) for name, value in kept["fields"] if value and name not in ("seen", "next", "revision")]
    return render(request, "web/typed.html", {"kept": kept, "shown": shown}, status=status)


@requires_csrf_token
def stale_form(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A form from before somebody signed in again in this browser: what it holds is shown, to be sent once more.

    Else what is wrong is said: what a proxy or the browser keeps back, or that the form is too old.
    """
    if keep_typed(request) and getattr(request, "viewer", None) is not None:
        return _page(request, 403)
    message = "This form is too old to be saved. Go back, load the page again, and send it once more."
    if reason == REASON_NO_CSRF_COOKIE:
        message = NO_COOKIE
    elif reason.startswith(("Origin", "Referer")):
        message = OTHER_ADDRESS
    return render(request, "web/refused.html", {"message": message}, status=403)
