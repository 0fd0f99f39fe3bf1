"""Who sees and may do what: the one place that decides."""

from dataclasses import dataclass, replace
from datetime import date
from enum import Enum

from django.core.exceptions import PermissionDenied

from wise_tally.core.derived import derived
from wise_tally.core.lines import Filter
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE
from wise_tally.domain.org.models import Person, Role, Team, Workspace


class May(Enum):
    """What a role may do."""

    CHANGE_OWN_DEALS = "change own deals"
    CHANGE_DEALS_BELOW = "change deals of their teams"
    CHANGE_ALL_DEALS = "change every deal"
    SET_RULES = "set stages, lists and quotas"
    SET_ORGANISATION = "set people, teams, territories and the organisation"
    IMPORT = "import data and undo imports"
    READ_RECORDS = "read the audit log and outbox"


ROLES: dict[str, frozenset[May]] = {
    Role.ADMIN: frozenset(set(May) - {May.CHANGE_DEALS_BELOW}),
    Role.MANAGER: frozenset({May.CHANGE_OWN_DEALS, May.CHANGE_DEALS_BELOW, May.SET_RULES}),
    Role.REP: frozenset({May.CHANGE_OWN_DEALS}),
    Role.VIEWER: frozenset(),
}


@dataclass(frozen=True)
class Viewer:
    """A signed-in person with the role's rights and the teams managed, or opened to a viewer.

    `sees_team`: a rep who may read the own team's figures and the deals behind them.
    """

    key: str
    name: str
    role: str
    managed_teams: tuple[str, ...]
    sees_team: bool = False

    def may(self, what: May) -> bool:
        """Whether the role allows it."""
        return what in ROLES.get(self.role, frozenset())

    def require(self, what: May) -> None:
        """Raise PermissionDenied unless the role allows it."""
        if not self.may(what):
            raise PermissionDenied(f"You need the right to {what.value}. Ask an administrator.")

    @property
    def sees_own_only(self) -> bool:
        """Whether figures and deals of others are hidden."""
        return self.role not in (Role.ADMIN, Role.MANAGER, Role.VIEWER)


def has_left(person: Person, today: date) -> bool:
    """Whether the person's last day is past; who has left may not sign in any more."""
    return person.active_to is not None and person.active_to < today


def people_left(day: date) -> dict[str, date]:
    """Last days, by identifier, of the people who have left before a day."""
    rows = Person.objects.filter(active_to__lt=day).values_list("key", "active_to")
    return {key: last_day for key, last_day in rows if last_day}


def viewer_of(person: Person) -> Viewer:
    """The viewer that a person is."""
    role = person.role or Role.REP
    if role == Role.VIEWER:
        teams = person.openings.order_by("team__key").values_list("team__key", flat=True)
    else:
        teams = Team.objects.filter(manager=person).order_by("key").values_list("key", flat=True)  # type: ignore[assignment]
    sees_team = role == Role.REP and Workspace.current().reps_see_team
    return Viewer(person.key, person.name, role, tuple(teams), sees_team)


@dataclass(frozen=True)
class Part:
    """A part of the organisation: its teams by index, and the identifiers of their people; None for all of it."""

    teams: frozenset[int] | None
    people: frozenset[str] | None


@derived(most=256)
def _part(reference: ReferenceData, viewer: Viewer, as_of: date) -> Part:
    teams = _teams(viewer, reference, as_of)
    if teams is None:
        return Part(None, None)
    day = as_of.toordinal()
    return Part(teams, frozenset(p.key for i, p in enumerate(reference.people) if reference.team_of(i, day) in teams))


def visible_teams(viewer: Viewer, reference: ReferenceData, as_of: date) -> frozenset[int] | None:
    """Teams whose figures the viewer may open; None for the whole organisation."""
    return _part(reference, viewer, as_of).teams


def visible_people(viewer: Viewer, reference: ReferenceData, as_of: date) -> frozenset[str] | None:
    """Identifiers of the people of these teams; None for the whole organisation."""
    return _part(reference, viewer, as_of).people


def _teams(viewer: Viewer, reference: ReferenceData, as_of: date) -> frozenset[int] | None:
    if viewer.sees_own_only:
        own = _own(viewer, reference)
        team = reference.team_of(own, as_of.toordinal()) if viewer.sees_team and own != NONE else NONE
        return frozenset({team} - {NONE})
    if viewer.role == Role.ADMIN or (viewer.role == Role.VIEWER and not viewer.managed_teams):
        return None
    tree = reference.team_tree(as_of)
    managed = [i for i, team in enumerate(reference.teams) if team.key in viewer.managed_teams]
    if managed and set(tree.children(NONE)) <= set(managed):
        return None
    return frozenset(below for team in managed for below in tree.below(team))


def allowed_scope(viewer: Viewer, reference: ReferenceData, as_of: date, wanted: Filter) -> Filter:
    """The scope narrowed to what the viewer may see; raises PermissionDenied where it was asked for by name."""
    own = _own(viewer, reference)
    if viewer.sees_own_only and not viewer.sees_team:
        if (wanted.person not in (NONE, own)) or wanted.team != NONE:
            raise PermissionDenied("You can only see your own deals and figures.")
        return replace(wanted, person=own)
    if viewer.sees_own_only and wanted.team == NONE and wanted.person in (NONE, own):
        return replace(wanted, person=own)
    visible = visible_teams(viewer, reference, as_of)
    if visible is None:
        return wanted
    if wanted.person != NONE:
        if reference.team_of(wanted.person, as_of.toordinal()) not in visible:
            raise PermissionDenied("This person is not in your part of the organisation.")
        return wanted
    if wanted.team == NONE:
        roots = sorted(visible, key=lambda i: (len(reference.team_tree(as_of).paths[i]), reference.teams[i].key))
        return replace(wanted, team=roots[0]) if roots else replace(wanted, person=own)
    if wanted.team not in visible:
        raise PermissionDenied("This team is not in your part of the organisation.")
    return wanted


def _own(viewer: Viewer, reference: ReferenceData) -> int:
    """The viewer's index among the people; -1 for nobody of the books."""
    return reference.person_index.get(viewer.key, NONE)


def may_change_deal(viewer: Viewer, reference: ReferenceData, today: date, owner: int) -> bool:
    """Whether the viewer may change a deal with this owner (index into the reference data)."""
    if viewer.may(May.CHANGE_ALL_DEALS):
        return True
    key = reference.people[owner].key
    if key == viewer.key and viewer.may(May.CHANGE_OWN_DEALS):
        return True
    if not viewer.may(May.CHANGE_DEALS_BELOW):
        return False
    visible = visible_people(viewer, reference, today)
    return visible is None or key in visible


def require_change(viewer: Viewer, reference: ReferenceData, today: date, owner: int) -> None:
    """Raise PermissionDenied unless the viewer may change deals of this owner."""
    if not may_change_deal(viewer, reference, today, owner):
        message = "This deal belongs to somebody else. Its owner, their manager or an administrator can change it."
        raise PermissionDenied(message)


def sees_pay(viewer: Viewer, reference: ReferenceData, today: date, key: str) -> bool:
    """Whether the viewer may know what somebody (an identifier) earns: oneself, those above, administrators."""
    if key == viewer.key or viewer.role == Role.ADMIN:
        return True
    if viewer.role != Role.MANAGER:
        return False
    visible = visible_people(viewer, reference, today)
    return visible is None or key in visible


def sees_partners_pay(viewer: Viewer, reference: ReferenceData, today: date) -> bool:
    """Whether the viewer may know what partners earn: administrators and whoever manages the whole organisation."""
    return viewer.role in (Role.ADMIN, Role.MANAGER) and visible_teams(viewer, reference, today) is None


def may_give(viewer: Viewer, reference: ReferenceData, today: date, owner: str, taker: str) -> bool:
    """Whether the viewer may make what belongs to `owner` that of `taker` (identifiers, empty for nobody).

    Those above both may, and administrators; what is nobody's may be taken up.
    """
    if owner == taker or viewer.may(May.CHANGE_ALL_DEALS):
        return True
    if not owner and taker == viewer.key and viewer.may(May.CHANGE_OWN_DEALS):
        return True
    if not viewer.may(May.CHANGE_DEALS_BELOW):
        return False
    visible = visible_people(viewer, reference, today)
    return visible is None or all(one in ("", viewer.key) or one in visible for one in (owner, taker))


def require_giving(
    viewer: Viewer, reference: ReferenceData, today: date, owner: Person | None, taker: Person | None
) -> None:
    """Raise PermissionDenied unless the viewer may make what belongs to one that of the other."""
    if not may_give(viewer, reference, today, owner.key if owner else "", taker.key if taker else ""):
        raise PermissionDenied(
            "Whose this is can be changed by somebody who manages both people, or by an administrator; ask one of them."
        )
