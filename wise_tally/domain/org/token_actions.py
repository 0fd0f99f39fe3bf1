"""Personal tokens of the read-only interface: given once, kept as a hash, taken away at any time."""

import hashlib
import secrets
from datetime import datetime, timedelta

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import QuerySet

from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import ApiToken, Person
from wise_tally.domain.refusals import WriteRefused

# When a token was last used is written at most this often, so that reading does not wait for writers.
NOTED_EVERY = timedelta(hours=1)
MOST_TOKENS = 20
INTERFACE, CALENDAR = "interface", "calendar"


def tokens_of(viewer: Viewer) -> QuerySet[ApiToken]:
    """The viewer's tokens; an administrator's view holds everybody's."""
    tokens = ApiToken.objects.select_related("person").order_by("person__name", "made_at", "pk")
    return tokens if viewer.may(May.SET_ORGANISATION) else tokens.filter(person__key=viewer.key)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


@transaction.atomic
def give_token(viewer: Viewer, name: str, now: datetime, use: str = INTERFACE) -> str:
    """A new token for the viewer; returned once and kept only as a hash. Raises WriteRefused."""
    person, name = Person.objects.filter(key=viewer.key).first(), name.strip()
    if person is None:
        raise PermissionDenied("Only people of this workspace can have a token; ask an administrator to add you.")
    if not name or len(name) > 200:
        raise WriteRefused("Enter what the token is for.")
    if person.tokens.count() >= MOST_TOKENS:
        raise WriteRefused(f"You already have {plural(MOST_TOKENS, 'token')}. Delete one first.")
    token = secrets.token_urlsafe(32)
    made = ApiToken.objects.create(person=person, name=name, digest=_digest(token), made_at=now, use=use)
    audit(viewer, "token given", f"{person.key} {made.pk}", now, after=name)
    return token


@transaction.atomic
def take_token_away(viewer: Viewer, token: ApiToken, now: datetime) -> None:
    """End a token of one's own, or as an administrator anybody's; raises PermissionDenied."""
    if token.person.key != viewer.key:
        viewer.require(May.SET_ORGANISATION)
    audit(viewer, "token taken away", f"{token.person.key} {token.pk}", now, before=token.name)
    token.delete()


def person_of_token(token: str, now: datetime, use: str = INTERFACE) -> Person | None:
    """Whose token of this use it is; None for one that was never given or was taken away."""
    api_token = ApiToken.objects.select_related("person").filter(digest=_digest(token), use=use).first()
    if api_token is None:
        return None
    if api_token.used_at is None or now - api_token.used_at > NOTED_EVERY:
        ApiToken.objects.filter(pk=api_token.pk).update(used_at=now)
    return api_token.person
