"""Changes of people and trees: each takes effect on a day and keeps what held before."""

from datetime import date, datetime

from django.db import transaction

from wise_tally.org.access import May, Viewer
from wise_tally.org.book_number import ground_changed
from wise_tally.org.models import AuditEntry, Membership, Person, Team, TeamParent, Territory, TerritoryParent

# What a base column said held from here on once dated rows begin.
BEGINNING = date(1970, 1, 1)


def audit(viewer: Viewer, action: str, detail: str, now: datetime, before: str = "", after: str = "") -> None:
    """Write who did what into the audit, with the value before and after."""
    person = Person.objects.filter(key=viewer.key).first()
    AuditEntry.objects.create(at=now, person=person, action=action, detail=detail, before=before, after=after)


@transaction.atomic
def move_person(viewer: Viewer, person: Person, team: Team, from_on: date, now: datetime) -> None:
    """Make a person a member of `team` from a day on."""
    viewer.require(May.SET_RULES)
    if person.team and not person.memberships.exists():
        Membership.objects.create(person=person, team=person.team, from_on=BEGINNING)
    Membership.objects.update_or_create(person=person, from_on=from_on, defaults={"team": team})
    audit(viewer, "person moved", f"{person.key} to {team.key} from {from_on}", now)
    ground_changed()


@transaction.atomic
def move_team(viewer: Viewer, team: Team, parent: Team | None, from_on: date, now: datetime) -> None:
    """Put a team under another from a day on."""
    viewer.require(May.SET_RULES)
    if not team.parents.exists():
        TeamParent.objects.create(team=team, parent=team.parent, from_on=BEGINNING)
    TeamParent.objects.update_or_create(team=team, from_on=from_on, defaults={"parent": parent})
    audit(viewer, "team moved", f"{team.key} under {parent.key if parent else 'the company'} from {from_on}", now)
    ground_changed()


@transaction.atomic
def move_territory(
    viewer: Viewer, territory: Territory, parent: Territory | None, from_on: date, now: datetime
) -> None:
    """Put a territory under another from a day on."""
    viewer.require(May.SET_RULES)
    if not territory.parents.exists():
        TerritoryParent.objects.create(territory=territory, parent=territory.parent, from_on=BEGINNING)
    TerritoryParent.objects.update_or_create(territory=territory, from_on=from_on, defaults={"parent": parent})
    audit(viewer, "territory moved", f"{territory.key} from {from_on}", now)
    ground_changed()
