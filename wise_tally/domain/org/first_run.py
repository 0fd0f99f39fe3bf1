"""The first administrator of an empty workspace, and teams added many at once."""

from dataclasses import dataclass
from datetime import datetime

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import Person, Role, Team, Workspace
from wise_tally.domain.org.records import new_key
from wise_tally.domain.refusals import WriteRefused


def nobody_yet() -> bool:
    """Whether nobody can sign in yet, so that the first to come becomes administrator."""
    return not Person.objects.filter(user__isnull=False).exists()


@transaction.atomic
def first_administrator(
    organisation: str, name: str, username: str, password: str, time_zone: str, now: datetime
) -> User:
    """Make the first administrator of an empty workspace, name it, and set its zone where one is given.

    Raises PermissionDenied once there is anybody, WriteRefused for a password that is too weak.
    """
    if not nobody_yet():
        raise PermissionDenied("This workspace has people already; sign in, or ask an administrator.")
    try:
        validate_password(password, User(username=username, first_name=name[:150]))
    except ValidationError as error:
        raise WriteRefused(" ".join(error.messages)) from error
    workspace = Workspace.current()
    workspace.organisation = organisation
    workspace.time_zone = time_zone or workspace.time_zone
    workspace.save()
    user = User.objects.create_user(username, password=password, first_name=name[:150])
    person, _ = Person.objects.get_or_create(key=username, defaults={"name": name, "role": Role.ADMIN})
    Person.objects.filter(pk=person.pk).update(user=user, role=Role.ADMIN)
    audit(Viewer(person.key, name, Role.ADMIN, ()), "workspace begun", organisation, now)
    reference_changed()
    return user


@dataclass(frozen=True)
class Added:
    """What a list of lines brought."""

    added: int
    there: int


@transaction.atomic
def add_teams(viewer: Viewer, text: str, now: datetime) -> Added:
    """One team a line; indented by spaces or “>” it stands under the one above. Names that are there are left alone."""
    viewer.require(May.SET_ORGANISATION)
    added, there, above = 0, 0, list[tuple[int, Team]]()
    for line in text.splitlines():
        name = line.strip().lstrip("> ").strip()
        if not name:
            continue
        depth = len(line) - len(line.lstrip(" >\t"))
        above = [(d, team) for d, team in above if d < depth]
        team = Team.objects.filter(name__iexact=name).first()
        if team is None:
            team = Team.objects.create(key=new_key(Team, name), name=name[:200], parent=above[-1][1] if above else None)
            added += 1
        else:
            there += 1
        above.append((depth, team))
    audit(viewer, "teams added", f"{added} teams", now, after=text[:2_000])
    reference_changed()
    return Added(added, there)
