"""Signing in and out; in the demo with one click."""

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.contrib.auth.models import User
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.org.models import Person, Role
from wise_tally.ui.refusals import Refused

DEMO_ROLES = (Role.MANAGER, Role.REP, Role.ADMIN)


def _next(request: HttpRequest) -> str:
    asked = request.POST.get("next") or request.GET.get("next") or "/"
    return asked if url_has_allowed_host_and_scheme(asked, allowed_hosts={request.get_host()}) else "/"


@require_http_methods(["GET", "POST"])
def sign_in(request: HttpRequest) -> HttpResponse:
    """The sign-in form; what was typed stays but for the password."""
    username = request.POST.get("username", "")
    if request.method == "POST":
        user = authenticate(request, username=username, password=request.POST.get("password", ""))
        if user is not None:
            login(request, user)
            return redirect(_next(request))
    answer = {"next": _next(request), "wrong": request.method == "POST", "username": username}
    return render(request, "ui/sign_in.html", answer, status=401 if request.method == "POST" else 200)


@require_POST
def demo_sign_in(request: HttpRequest) -> HttpResponse:
    """One click in the demo: the first person of a role."""
    if not settings.DEMO:
        raise Http404
    role = request.POST.get("role", "")
    if role not in DEMO_ROLES:
        raise Refused(f"“{role[:20]}” is not a role of the demo; accepted: {', '.join(DEMO_ROLES)}.")
    person = Person.objects.filter(role=role, user__isnull=False).order_by("key").first()
    if person is None:
        raise Refused("The demo has no such person yet; make it with ./tally demo.")
    login(request, User.objects.get(person=person), backend="django.contrib.auth.backends.ModelBackend")
    return redirect(_next(request))


@require_POST
def sign_out(request: HttpRequest) -> HttpResponse:
    """End the session."""
    logout(request)
    return redirect("sign-in")
