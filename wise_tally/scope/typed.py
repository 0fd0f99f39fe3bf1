"""Nothing typed is lost: what a form sent after its sign-in had run out is kept until the person is back."""

from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import Resolver404, resolve
from django.views.decorators.csrf import requires_csrf_token
from django.views.decorators.http import require_http_methods

MOST_SIGNS = 50_000
HIDDEN = ("csrfmiddlewaretoken", "password")
KEPT = "typed"


def _from_here(request: HttpRequest) -> bool:
    """Whether the form stood on one of our own pages."""
    origin = request.META.get("HTTP_ORIGIN") or request.META.get("HTTP_REFERER", "")
    return urlsplit(origin).netloc == request.get_host()


def keep_typed(request: HttpRequest) -> bool:
    """Keep in the session what a form of ours sent; files and passwords are not kept. Says whether anything was."""
    if request.method != "POST" or not _from_here(request):
        return False
    fields = [(name, value) for name in request.POST for value in request.POST.getlist(name) if name not in HIDDEN]
    if not fields or sum(len(name) + len(value) for name, value in fields) > MOST_SIGNS:
        return False
    request.session[KEPT] = {"path": request.get_full_path(), "fields": fields}
    return True


@require_http_methods(["GET", "HEAD", "POST"])
def typed(request: HttpRequest) -> HttpResponse:
    """What was typed before the sign-in ran out: send it again, or drop it."""
    if request.method == "POST" or KEPT not in request.session:
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
    return render(request, "ui/typed.html", {"kept": kept, "shown": shown}, status=status)


@requires_csrf_token
def stale_form(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A form from before somebody signed in again in this browser: what it holds is shown, to be sent once more."""
    if keep_typed(request) and getattr(request, "viewer", None) is not None:
        return _page(request, 403)
    message = "This form is too old to be saved; go back, load the page again, and send it once more."
    return render(request, "ui/refused.html", {"message": message}, status=403)
