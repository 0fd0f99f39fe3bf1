"""Signing in: names and passwords given, changed and taken away, and what went wrong on the way."""

import logging
import secrets
import unicodedata
from datetime import datetime, timedelta

from axes.models import AccessAttempt
from axes.utils import reset
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import F, Sum

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import ApiToken, AuditEntry, Person, Role
from wise_tally.domain.refusals import WriteRefused

log = logging.getLogger("wise_tally.sign_in")
WHILE = timedelta(minutes=15)
LONGEST_NAME = 30
RESTORED, LATELY = "backup restored", timedelta(hours=12)


def sign_in_name(typed: str) -> str:
    """The name to sign in with that a typed name or mail address means."""
    if "@" in typed:
        names = Person.objects.filter(email__iexact=typed, user__isnull=False).values_list("user__username", flat=True)[
            :2
        ]
        if len(names) == 1:
            return str(names[0])
    return typed


def failures_from(address: str, now: datetime) -> int:
    """Wrong passwords from an address within the last quarter of an hour, whatever the names."""
    attempts = AccessAttempt.objects.filter(ip_address=address, attempt_time__gte=now - WHILE)
    return attempts.aggregate(sum=Sum("failures_since_start"))["sum"] or 0


def restored_lately(now: datetime) -> datetime | None:
    """When a backup was put back within the last half day, which ended every sign-in; else None."""
    since = now - LATELY
    moments = AuditEntry.objects.filter(action=RESTORED, at__gte=since).order_by("-pk").values_list("at", flat=True)
    return moments.first()


def note_sign_in(what: str, name: str, address: str, now: datetime) -> None:
    """Write down that somebody could not sign in: in the audit and in the log."""
    log.warning("%s: %s from %s", what, name[:64], address)
    audit(Viewer("", "nobody signed in", Role.VIEWER, ()), what, f"{name[:64]} from {address}", now)


def readable_name(person: Person) -> str:
    """A short name to sign in with, from somebody's name: first.last in small plain letters, a number after it where it is taken."""
    plain = unicodedata.normalize("NFKD", person.name).encode("ascii", "ignore").decode().lower()
    words = ["".join(c for c in word if c.isalnum()) for word in plain.split()]
    parts = [word for word in words if word] or ["person"]
    base = ".".join([parts[0], *parts[-1:]] if len(parts) > 1 else parts)[:LONGEST_NAME]
    name, number = base, 2
    while User.objects.filter(username=name).exists():
        name, number = f"{base}{number}", number + 1
    return name


@transaction.atomic
def give_sign_in(viewer: Viewer, person: Person, now: datetime) -> tuple[str, str]:
    """Let a person sign in; returns name and password, which is shown once, kept only as a hash, and to be changed at once.

    A pause after too many wrong passwords ends with it, and so does every sign-in of before.
    """
    viewer.require(May.SET_ORGANISATION)
    password = secrets.token_urlsafe(12)
    user = person.user or User(username=readable_name(person), first_name=person.name[:150])
    user.set_password(password)
    user.save()
    Person.objects.filter(pk=person.pk).update(user=user, must_change_password=True)
    reset(username=user.username)
    audit(viewer, "sign-in given", person.key, now, after=user.username)
    return user.username, password


@transaction.atomic
def rename_sign_in(viewer: Viewer, person: Person, name: str, now: datetime) -> None:
    """Another name to sign in with; raises WriteRefused where it is empty, too long or taken."""
    viewer.require(May.SET_ORGANISATION)
    user, name = person.user, name.strip()
    if user is None:
        raise WriteRefused(f"{person.name} cannot sign in yet. Choose somebody who can.")
    if (
        not name
        or len(name) > 64
        or "@" in name
        or User.objects.filter(username__iexact=name).exclude(pk=user.pk).exists()
    ):
        raise WriteRefused(
            "This user name is empty, too long, contains an @, or is taken. Enter up to 64 other characters."
        )
    before = user.username
    User.objects.filter(pk=user.pk).update(username=name)
    audit(viewer, "sign-in renamed", person.key, now, before, name)


@transaction.atomic
def password_changed(viewer: Viewer, now: datetime) -> None:
    """Somebody has chosen a password of their own."""
    Person.objects.filter(key=viewer.key).update(must_change_password=False)
    audit(viewer, "password changed", viewer.key, now)


@transaction.atomic
def end_sign_in(viewer: Viewer, person: Person, now: datetime) -> None:
    """End somebody's sign-ins and tokens for good, as with the last day; a new password lets them in again."""
    tokens, _ = ApiToken.objects.filter(person=person).delete()
    Person.objects.filter(pk=person.pk).update(session_round=F("session_round") + 1)
    user = person.user
    if user is not None and user.has_usable_password():
        user.set_unusable_password()
        user.save()
    elif not tokens:
        return
    audit(viewer, "sign-in ended", person.key, now)
