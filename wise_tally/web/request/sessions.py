"""How long a sign-in lasts: until it was idle for long, for a month at most, and until its person ends all of them."""

import time
from datetime import datetime
from typing import Any

from django.conf import settings
from django.contrib.auth import logout
from django.contrib.auth.signals import user_logged_in
from django.db import transaction
from django.db.models import F
from django.dispatch import receiver
from django.http import HttpRequest

from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import ApiToken, Person
from wise_tally.web.request.session_files import end_all_sessions

MARK, WAS = "signed_in", "was"
# In seconds.
LONGEST = 30 * 24 * 3600
# When somebody was last seen is written down only so often.
SELDOM = 300
NEVER = {"at": 0.0, "seen": 0.0, "round": -1}


@receiver(user_logged_in)
def _mark(sender: object, request: HttpRequest, user: Any, **more: object) -> None:
    moment, person = time.time(), Person.objects.filter(user=user).first()
    request.session[MARK] = {"at": moment, "seen": moment, "round": person.session_round if person else 0}


def keep_or_end(request: HttpRequest, person: Person | None) -> None:
    """End a sign-in whose time is over, or note that it is in use; the session remembers whose it was."""
    # By the true clock: the day of the book may be set by hand.
    mark, moment = request.session.get(MARK, NEVER), time.time()
    idle, whole = moment - mark["seen"], moment - mark["at"]
    if whole > LONGEST or idle > settings.IDLE_HOURS * 3600 or (person and mark["round"] != person.session_round):
        number = request.user.pk
        logout(request)
        request.session[WAS] = number
    elif idle > SELDOM:
        request.session[MARK] = mark | {"seen": moment}


@transaction.atomic
def end_all(viewer: Viewer, moment: datetime) -> None:
    """End every sign-in of the viewer, in whatever browser."""
    Person.objects.filter(key=viewer.key).update(session_round=F("session_round") + 1)
    audit(viewer, "signed out everywhere", viewer.key, moment)


def end_every(tokens: set[str]) -> None:
    """After another database was put in place: nobody is signed in, and of its tokens only those that held before stay."""
    end_all_sessions()
    ApiToken.objects.exclude(digest__in=tokens).delete()
