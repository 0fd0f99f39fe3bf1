"""People, teams and territories: joiners, leavers, roles, commission rates; each move holds from a day on."""

from collections.abc import Mapping
from datetime import date, datetime
from typing import Any

from django.db import models, transaction

from wise_tally.core.trees import NONE, loop_on_any_date
from wise_tally.domain.formats import points
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import BEGINNING, audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import (
    CommissionRate,
    Membership,
    Opening,
    Person,
    RateAboveQuota,
    Role,
    Team,
    TeamParent,
    Territory,
    TerritoryParent,
)
from wise_tally.domain.org.records import save_record, take_away
from wise_tally.domain.refusals import WriteRefused

RIGHT = May.SET_ORGANISATION


@transaction.atomic
def save_person(
    viewer: Viewer, key: str | None, values: Mapping[str, Any], now: datetime, expected: str = ""
) -> Person:
    """Add or change a person; raises WriteRefused for a twin or where no administrator would be left."""
    others = Person.objects.exclude(key=key or "")
    same_mail = others.filter(email__iexact=values["email"]) if values["email"] else others.none()
    twin = same_mail.first() or others.filter(name__iexact=values["name"], email=values["email"]).first()
    if twin is not None:
        raise WriteRefused(f"{twin.name} has the same name or e-mail. Choose another name or e-mail.")
    if values["role"] != Role.ADMIN or values["active_to"]:
        _require_admin_without(key)
    if values["active_from"] and values["active_to"] and values["active_to"] < values["active_from"]:
        raise WriteRefused("The last day is before the first day. Choose a later last day, or leave it empty.")
    person = save_record(viewer, Person, key, values, now, expected, RIGHT)
    assert isinstance(person, Person)
    return person


def _require_admin_without(key: str | None) -> None:
    """Somebody else must be able to administer, if `key` is an administrator now."""
    person = Person.objects.filter(key=key or "", role=Role.ADMIN).first()
    # Somebody with a last day will not administer for long.
    others = Person.objects.filter(role=Role.ADMIN, active_to=None).exclude(pk=person.pk) if person else None
    if person and others is not None and not others.exists():
        raise WriteRefused(f"{person.name} is the only administrator. Make somebody else administrator first.")


@transaction.atomic
def remove_person(viewer: Viewer, person: Person, now: datetime) -> None:
    """Take away a person to whom nothing refers, with the sign-in; raises WriteRefused for the last administrator."""
    _require_admin_without(person.key)
    user = person.user
    take_away(viewer, Person, person.key, now, RIGHT)
    if user is not None:
        user.delete()


@transaction.atomic
def set_commission(  # noqa: PLR0913 - whose, how much, from when, what before
    viewer: Viewer, subject: str, key: str, rate_bp: int, from_on: date, now: datetime, base_bp: int | None = None
) -> None:
    """A commission rate of a person or partner from a day on; `base_bp` held before where there was none."""
    viewer.require(RIGHT)
    rows = CommissionRate.objects.filter(subject=subject, subject_key=key)
    if base_bp is not None and not rows.exists():
        CommissionRate.objects.create(subject=subject, subject_key=key, from_on=BEGINNING, rate_bp=base_bp)
    before = rows.filter(from_on__lte=from_on).order_by("from_on").last()
    CommissionRate.objects.update_or_create(
        subject=subject, subject_key=key, from_on=from_on, defaults={"rate_bp": rate_bp}
    )
    was = points(before.rate_bp) if before else ""
    audit(viewer, "commission rate set", f"{subject} {key} from {from_on}", now, was, points(rate_bp))
    reference_changed()


@transaction.atomic
def set_rate_above(viewer: Viewer, person: Person, rate_bp: int, from_on: date, now: datetime) -> None:
    """What a person earns from a day on for the part of the won amount above the quota; 0 ends it."""
    viewer.require(RIGHT)
    before = person.rates_above.filter(from_on__lte=from_on).order_by("from_on").last()
    RateAboveQuota.objects.update_or_create(person=person, from_on=from_on, defaults={"rate_bp": rate_bp})
    was = points(before.rate_bp) if before else ""
    audit(viewer, "rate above quota set", f"{person.key} from {from_on}", now, was, points(rate_bp))


@transaction.atomic
def open_to(viewer: Viewer, person: Person, teams: list[Team], now: datetime) -> None:
    """What a viewer may read: these teams and those below; none is the whole organisation."""
    viewer.require(RIGHT)
    before = ", ".join(Opening.objects.filter(person=person).values_list("team__name", flat=True)) or "everything"
    Opening.objects.filter(person=person).delete()
    Opening.objects.bulk_create(Opening(person=person, team=team) for team in teams)
    after = ", ".join(team.name for team in teams) or "everything"
    audit(viewer, "opened to a viewer", person.key, now, before, after)


def require_no_loop(model: type[Team] | type[Territory], node: Any, parent: Any, from_on: date) -> None:
    """Raise WriteRefused where putting `node` under `parent` from a day on makes a loop on any date."""
    dated: type[models.Model] = TeamParent if model is Team else TerritoryParent
    owner = "team_id" if model is Team else "territory_id"
    numbers = list(model.objects.order_by("pk").values_list("pk", "parent_id"))
    index_of = {pk: index for index, (pk, _) in enumerate(numbers)}
    rows: dict[int, dict[int, int | None]] = {pk: {} for pk, _ in numbers}
    for pk, day, above in dated._default_manager.order_by("from_on").values_list(owner, "from_on", "parent_id"):
        rows[pk][day.toordinal()] = above
    for pk, base in numbers:
        if not rows[pk]:
            rows[pk][0] = base
    rows[node.pk][from_on.toordinal()] = parent.pk if parent else None
    history = [
        [(day, NONE if above is None else index_of[above]) for day, above in sorted(rows[pk].items())]
        for pk, _ in numbers
    ]
    if loop_on_any_date(history) is not None:
        above_name = parent.name if parent else "the organisation"
        raise WriteRefused(
            f"{node.name} cannot be placed under {above_name}, because that would make a loop. Choose another place."
        )


def _require_offered(node: Team | Territory | None) -> None:
    if node is not None and node.retired:
        raise WriteRefused(f"{node.name} is retired. Choose another, or bring it back first.")


@transaction.atomic
def move_person(viewer: Viewer, person: Person, team: Team, from_on: date, now: datetime) -> None:
    """Make a person a member of `team` from a day on."""
    viewer.require(RIGHT)
    _require_offered(team)
    if person.team and not person.memberships.exists():
        Membership.objects.create(person=person, team=person.team, from_on=BEGINNING)
    earlier = person.memberships.filter(from_on__lte=from_on).order_by("-from_on").first()
    Membership.objects.update_or_create(person=person, from_on=from_on, defaults={"team": team})
    before = f"team {earlier.team.key}" if earlier else "no team"
    audit(viewer, "person moved", f"{person.name} ({person.key}) from {from_on}", now, before, f"team {team.key}")
    reference_changed()


@transaction.atomic
def move_team(viewer: Viewer, team: Team, parent: Team | None, from_on: date, now: datetime) -> None:
    """Put a team under another from a day on."""
    viewer.require(RIGHT)
    _require_offered(parent)
    require_no_loop(Team, team, parent, from_on)
    if not team.parents.exists():
        TeamParent.objects.create(team=team, parent=team.parent, from_on=BEGINNING)
    earlier = team.parents.filter(from_on__lte=from_on).order_by("-from_on").first()
    TeamParent.objects.update_or_create(team=team, from_on=from_on, defaults={"parent": parent})
    words = f"{team.name} ({team.key}) from {from_on}"
    audit(viewer, "team moved", words, now, _under(earlier.parent if earlier else team.parent), _under(parent))
    reference_changed()


@transaction.atomic
def move_territory(
    viewer: Viewer, territory: Territory, parent: Territory | None, from_on: date, now: datetime
) -> None:
    """Put a territory under another from a day on."""
    viewer.require(RIGHT)
    _require_offered(parent)
    require_no_loop(Territory, territory, parent, from_on)
    if not territory.parents.exists():
        TerritoryParent.objects.create(territory=territory, parent=territory.parent, from_on=BEGINNING)
    earlier = territory.parents.filter(from_on__lte=from_on).order_by("-from_on").first()
    TerritoryParent.objects.update_or_create(territory=territory, from_on=from_on, defaults={"parent": parent})
    words, before = (
        f"{territory.name} ({territory.key}) from {from_on}",
        earlier.parent if earlier else territory.parent,
    )
    audit(viewer, "territory moved", words, now, _under(before), _under(parent))
    reference_changed()


def _under(parent: Team | Territory | None) -> str:
    return f"under {parent.name} ({parent.key})" if parent else "under the organisation"
