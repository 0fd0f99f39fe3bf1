"""Signing in and out; in the demo with one click."""

from typing import Any
from zoneinfo import available_timezones

from django import forms
from django.conf import settings
from django.contrib import messages
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.forms import PasswordChangeForm
from django.contrib.auth.models import User
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.domain.org.access import May, has_left
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.first_run import first_administrator, nobody_yet
from wise_tally.domain.org.models import Person, Role
from wise_tally.domain.org.sign_in_actions import (
    failures_from,
    note_sign_in,
    password_changed,
    restored_lately,
    sign_in_name,
)
from wise_tally.domain.process.models import Process
from wise_tally.domain.refusals import WriteRefused
from wise_tally.web.forms.fields import LedgerForm, NameField
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.gate import client_address
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.sessions import end_all
from wise_tally.web.request.typed_again import TYPED, is_saved_for
from wise_tally.web.request.viewing import PageRequest

WRONG = "Wrong user name or password. Check both."
# From one address, whatever the names, before it has to wait: an office shares one, a guesser tries many names.
MOST_OF_AN_ADDRESS = 50
DEMO_ROLES = (Role.MANAGER, Role.REP, Role.ADMIN)


@require_safe
def home(request: PageRequest) -> HttpResponse:
    """The brief; in an empty workspace the guided start for those who may set it up."""
    viewer = request.viewer
    if viewer.may(May.SET_ORGANISATION) and not Process.objects.exists():
        return redirect("setup:start")
    query = request.META.get("QUERY_STRING", "")
    return redirect(reverse("brief:page") + (f"?{query}" if query else ""))


@require_http_methods(["GET", "POST"])
def sign_in(request: PageRequest) -> HttpResponse:
    """The sign-in form; what was typed stays but for the password. In a workspace of nobody, the form of the first."""
    if nobody_yet():
        return _first(request)
    username = request.POST.get("username", "").strip()
    if request.method == "POST":
        if failures_from(client_address(request), now()) >= MOST_OF_AN_ADDRESS:
            return paused(request)
        user = authenticate(request, username=sign_in_name(username), password=request.POST.get("password", ""))
        person = Person.objects.filter(user=user).first() if user else None
        if user is not None and person and not has_left(person, today()):
            login(request, user)
            return _onwards(request)
        note_sign_in("wrong sign-in", username, client_address(request), now())
    wrong = WRONG if request.method == "POST" else ""
    following, restored_at = safe_next(request, "/"), restored_lately(now())
    answer = {"next": following, "wrong": wrong, "username": username, "restored_at": restored_at}
    return render(request, "web/sign_in.html", answer, status=401 if wrong else 200)


def _onwards(request: PageRequest) -> HttpResponse:
    """To what was typed before the sign-in ran out, else to where the person wanted to go."""
    if is_saved_for(request):
        return redirect("typed")
    request.session.pop(TYPED, None)
    return redirect(safe_next(request, "/"))


def paused(request: PageRequest, *_: object) -> HttpResponse:
    """After too many wrong passwords: a pause that says how long."""
    note_sign_in("sign-in paused", request.POST.get("username", ""), client_address(request), now())
    words = "Too many failed attempts. Wait 15 minutes or ask an administrator for a new password."
    answer = {"next": safe_next(request, "/"), "wrong": words, "username": request.POST.get("username", "")}
    return render(request, "web/sign_in.html", answer, status=429)


class FirstForm(LedgerForm):
    """The first account of a workspace, and what the workspace is called."""

    organisation = NameField(label="Organisation")
    name = NameField(label="Your name", widget=forms.TextInput(attrs={"autocomplete": "name"}))
    username = forms.CharField(
        label="User name",
        max_length=64,
        widget=forms.TextInput(attrs={"autocomplete": "username"}),
        error_messages={"required": "Enter a user name.", "max_length": "Use at most 64 characters."},
    )
    password = forms.CharField(
        label="Password, at least 12 characters",
        strip=False,
        widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
        error_messages={"required": "Enter a password of at least 12 characters."},
    )
    # Filled in by the browser.
    time_zone = forms.CharField(required=False, widget=forms.HiddenInput(attrs={"data-own-zone": ""}))

    def clean_time_zone(self) -> str:
        """The zone the browser stands in; none where it is not known here."""
        zone: str = self.cleaned_data["time_zone"]
        return zone if zone in available_timezones() else ""


def _first(request: PageRequest) -> HttpResponse:
    form = FirstForm(request.POST if request.method == "POST" else None)
    if form.is_valid():
        try:
            user = first_administrator(**form.cleaned_data, now=now())
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
            return redirect("setup:start")
        except WriteRefused as refused:
            form.add_error("password", str(refused))
    return render(request, "web/first_sign_in.html", {"form": form}, status=422 if form.errors else 200)


@require_POST
def demo_sign_in(request: PageRequest) -> HttpResponse:
    """One click in the demo: the first person of a role."""
    if not settings.DEMO:
        raise Http404
    role = request.POST.get("role", "")
    one_of(role, DEMO_ROLES, "is not a role of the demo")
    person = Person.objects.filter(role=role, user__isnull=False, active_to=None).order_by("key").first()
    if person is None:
        raise Refused("The demo has no such person yet; make it with ./tally demo.")
    login(request, User.objects.get(person=person), backend="django.contrib.auth.backends.ModelBackend")
    return _onwards(request)


@require_POST
def sign_out(request: PageRequest) -> HttpResponse:
    """End the session, or every session of the person."""
    viewer = request.viewer
    if viewer is not None and request.POST.get("what") == "everywhere":
        end_all(viewer, now())
    logout(request)
    return redirect("sign-in")


class OwnPasswordForm(PasswordChangeForm):
    """The present password and a new one, twice."""

    WORDS = (
        ("old_password", "Present password"),
        ("new_password1", "New password"),
        ("new_password2", "The new one again"),
    )

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        for name, label in self.WORDS:
            field = self.fields[name]
            field.label, field.help_text = label, ""
            field.widget.attrs["class"] = "boxed"
        self.fields["new_password1"].help_text = "At least 12 characters; not a common one, and not like your name."


@require_http_methods(["GET", "HEAD", "POST"])
def password(request: PageRequest) -> HttpResponse:
    """One's own password changed; one that an administrator gave is changed before anything else."""
    user = request.user
    if request.viewer is None or not isinstance(user, User):
        return redirect("sign-in")
    form = OwnPasswordForm(user, request.POST if request.method == "POST" else None)
    if request.method == "POST" and form.is_valid():
        user = form.save()
        password_changed(request.viewer, now())
        update_session_auth_hash(request, user)
        messages.success(request, "Your password is changed; other browsers are signed out.")
        return redirect("home")
    answer = {"form": form, "must": request.person.must_change_password}
    return render(request, "web/password.html", answer, status=422 if form.is_bound else 200)
