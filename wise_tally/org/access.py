"""Who sees and may do what: the one place that decides."""

from dataclasses import dataclass, replace
from datetime import date
from enum import Enum

from django.core.exceptions import PermissionDenied

from wise_tally.core.ground import Ground
from wise_tally.core.lines import Filter
from wise_tally.core.trees import NONE
from wise_tally.org.models import Person, Role, Team


class May(Enum):
    """What a role may do."""

    CHANGE_OWN_DEALS = "change own deals"
    CHANGE_DEALS_BELOW = "change deals of the own part of the tree"
    CHANGE_ALL_DEALS = "change every deal"
    SET_RULES = "set stages and quotas"


ROLES: dict[str, frozenset[May]] = {
    Role.ADMIN: frozenset({May.CHANGE_OWN_DEALS, May.CHANGE_ALL_DEALS, May.SET_RULES}),
    Role.MANAGER: frozenset({May.CHANGE_OWN_DEALS, May.CHANGE_DEALS_BELOW, May.SET_RULES}),
    Role.REP: frozenset({May.CHANGE_OWN_DEALS}),
    Role.VIEWER: frozenset(),
}


@dataclass(frozen=True)
class Viewer:
    """A signed-in person with the role's rights and the teams managed."""

    key: str
    name: str
    role: str
    managed_teams: tuple[str, ...]

    def may(self, what: May) -> bool:
        """Whether the role allows it."""
        return what in ROLES.get(self.role, frozenset())

    def require(self, what: May) -> None:
        """Raise PermissionDenied unless the role allows it."""
        if not self.may(what):
            raise PermissionDenied(f"This needs the right to {what.value}; ask an administrator.")

    @property
    def sees_own_only(self) -> bool:
        """Whether figures and deals of others are hidden."""
        return self.role not in (Role.ADMIN, Role.MANAGER, Role.VIEWER)


def viewer_of(person: Person) -> Viewer:
    """The viewer that a person is."""
    teams = tuple(Team.objects.filter(manager=person).order_by("key").values_list("key", flat=True))
    return Viewer(person.key, person.name, person.role or Role.REP, teams)


def teams_seen(viewer: Viewer, ground: Ground, as_of: date) -> frozenset[int] | None:
    """Teams whose figures the viewer may open; None for the whole organisation."""
    if viewer.role != Role.MANAGER:
        return None
    tree = ground.team_tree(as_of)
    managed = [i for i, team in enumerate(ground.teams) if team.key in viewer.managed_teams]
    if managed and set(tree.children(NONE)) <= set(managed):
        return None
    return frozenset(below for team in managed for below in tree.below(team))


def allowed_scope(viewer: Viewer, ground: Ground, as_of: date, asked: Filter) -> Filter:
    """The scope narrowed to what the viewer may see; raises PermissionDenied where it was asked for by name."""
    if viewer.sees_own_only:
        own = next((i for i, person in enumerate(ground.people) if person.key == viewer.key), NONE)
        if (asked.person not in (NONE, own)) or asked.team != NONE:
            raise PermissionDenied("You see your own deals and figures; those of others are not open to you.")
        return replace(asked, person=own)
    seen = teams_seen(viewer, ground, as_of)
    if seen is None:
        return asked
    if asked.person != NONE:
        if ground.team_of(asked.person, as_of.toordinal()) not in seen:
            raise PermissionDenied("This person is not in your part of the organisation.")
        return asked
    if asked.team == NONE:
        roots = sorted(seen, key=lambda i: (len(ground.team_tree(as_of).paths[i]), ground.teams[i].key))
        own = next((i for i, person in enumerate(ground.people) if person.key == viewer.key), NONE)
        return replace(asked, team=roots[0]) if roots else replace(asked, person=own)
    if asked.team not in seen:
        raise PermissionDenied("This team is not in your part of the organisation.")
    return asked


def may_change_deal(viewer: Viewer, ground: Ground, today: date, owner: int) -> bool:
    """Whether the viewer may change a deal with this owner (index into the ground)."""
    if viewer.may(May.CHANGE_ALL_DEALS):
        return True
    if ground.people[owner].key == viewer.key and viewer.may(May.CHANGE_OWN_DEALS):
        return True
    if not viewer.may(May.CHANGE_DEALS_BELOW):
        return False
    seen = teams_seen(viewer, ground, today)
    return seen is None or ground.team_of(owner, today.toordinal()) in seen


def require_change(viewer: Viewer, ground: Ground, today: date, owner: int) -> None:
    """Raise PermissionDenied unless the viewer may change deals of this owner."""
    if not may_change_deal(viewer, ground, today, owner):
        message = "This deal belongs to somebody else; its owner, a manager above or an administrator may change it."
        raise PermissionDenied(message)


def sees_people(viewer: Viewer, ground: Ground, today: date, people: list[int]) -> bool:
    """Whether the viewer may open a deal owned by or credited to these people."""
    if viewer.sees_own_only:
        return any(ground.people[person].key == viewer.key for person in people)
    seen = teams_seen(viewer, ground, today)
    own = any(ground.people[person].key == viewer.key for person in people)
    return seen is None or own or any(ground.team_of(person, today.toordinal()) in seen for person in people)
