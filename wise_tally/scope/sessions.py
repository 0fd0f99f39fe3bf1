"""How long a sign-in lasts: until it was idle for long, for a month at most, and until its person ends all of them."""

from datetime import UTC, datetime, timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import logout
from django.contrib.auth.signals import user_logged_in
from django.contrib.sessions.models import Session
from django.db import transaction
from django.db.models import F
from django.dispatch import receiver
from django.http import HttpRequest

from wise_tally.org.access import Viewer
from wise_tally.org.actions import audit
from wise_tally.org.clock import now
from wise_tally.org.models import ApiToken, Person

MARK, WAS = "signed_in", "was"
LONGEST = timedelta(days=30)
# When somebody was last seen is written down only so often.
SELDOM = timedelta(minutes=5)
NEVER = {"at": 0.0, "seen": 0.0, "round": -1}


@receiver(user_logged_in)
def _mark(sender: object, request: HttpRequest, user: Any, **more: object) -> None:
    moment, person = now().timestamp(), Person.objects.filter(user=user).first()
    request.session[MARK] = {"at": moment, "seen": moment, "round": person.session_round if person else 0}


def keep_or_end(request: HttpRequest, person: Person | None) -> None:
    """End a sign-in whose time is over, or note that it is in use; the session remembers whose it was."""
    mark, moment = request.session.get(MARK, NEVER), now()
    first, last = (datetime.fromtimestamp(mark[name], UTC) for name in ("at", "seen"))
    idle = timedelta(hours=settings.IDLE_HOURS)
    if moment - first > LONGEST or moment - last > idle or (person and mark["round"] != person.session_round):
        number = request.user.pk
        logout(request)
        request.session[WAS] = number
    elif moment - last > SELDOM:
        request.session[MARK] = mark | {"seen": moment.timestamp()}


@transaction.atomic
def end_all(viewer: Viewer, moment: datetime) -> None:
    """End every sign-in of the viewer, in whatever browser."""
    Person.objects.filter(key=viewer.key).update(session_round=F("session_round") + 1)
    audit(viewer, "signed out everywhere", viewer.key, moment)


def end_every(tokens: set[str]) -> None:
    """After another database was put in place: nobody is signed in, and of its tokens only those that held before stay."""
    Session.objects.all().delete()
    ApiToken.objects.exclude(digest__in=tokens).delete()
