"""Keeping tallies and arranging dashboards."""

from collections.abc import Sequence
from datetime import datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import Q, QuerySet

from wise_tally.domain.dashboards.models import Dashboard, Tally, Tile
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Person, Role, Team
from wise_tally.domain.org.records import new_key
from wise_tally.domain.refusals import WriteConflict, WriteRefused

ALL = "all"
CHANGES = ("share", "unshare", "away")
MOST_TILES = 24
MOST_QUERY = 2_000


def tallies_of(viewer: Viewer) -> QuerySet[Tally]:
    """The viewer's own tallies and those that others share, by name."""
    tallies = Tally.objects.filter(Q(owner__key=viewer.key) | Q(shared=True))
    return tallies.select_related("owner").order_by("name", "key")


def audiences_of(viewer: Viewer, teams: Sequence[str]) -> list[str]:
    """The audiences that somebody of these teams belongs to."""
    return [ALL, f"role:{viewer.role}", *(f"team:{key}" for key in teams)]


def dashboards_of(viewer: Viewer, teams: Sequence[str]) -> QuerySet[Dashboard]:
    """The viewer's own dashboards and those opened to all, to the role or to one of these teams, by name."""
    open_to = Q(audience__in=audiences_of(viewer, teams)) | Q(owner__key=viewer.key)
    return Dashboard.objects.filter(open_to).select_related("owner").order_by("name", "key")


def _owner(viewer: Viewer) -> Person:
    person = Person.objects.filter(key=viewer.key).first()
    if person is None:
        raise PermissionDenied("Only people of this organisation can save reports.")
    return person


def _name(text: str, what: str) -> str:
    name = text.strip()
    if not name or len(name) > 200:
        raise WriteRefused(f"Enter a name for the {what} (up to 200 characters).")
    return name


def _require_own(viewer: Viewer, owner: Person, what: str) -> None:
    if owner.key != viewer.key and not viewer.may(May.SET_ORGANISATION):
        raise PermissionDenied(f"This {what} belongs to somebody else. Make a copy to change it.")


@transaction.atomic
def save_tally(viewer: Viewer, name: str, query: str, shared: bool, now: datetime) -> Tally:
    """Keep a question under a name; one's own of that name is replaced. Raises WriteRefused."""
    owner, name = _owner(viewer), _name(name, "tally")
    if len(query) > MOST_QUERY:
        raise WriteRefused("The report has too many settings. Remove some filters.")
    tally = Tally.objects.filter(owner=owner, name=name).first()
    if tally is None:
        tally = Tally(key=new_key(Tally, name), name=name, owner=owner)
    before = tally.query
    tally.query, tally.shared = query, shared
    tally.save()
    audit(viewer, "tally saved", tally.key, now, before, query)
    return tally


@transaction.atomic
def change_tally(viewer: Viewer, tally: Tally, what: str, now: datetime) -> None:
    """Share a tally, keep it to oneself, or take it away with its tiles. Raises WriteRefused or PermissionDenied."""
    if what not in CHANGES:
        raise WriteRefused(f"“{what[:20]}” is not valid. Choose one of: {', '.join(CHANGES)}.")
    _require_own(viewer, tally.owner, "tally")
    if what == "away":
        others = Dashboard.objects.filter(tiles__tally=tally.key).exclude(owner=tally.owner).first()
        if others is not None:
            raise WriteRefused(
                f"The report is on the dashboard “{others.name}” of {others.owner.name}. Remove it there first."
            )
        Tile.objects.filter(tally=tally.key).delete()
        tally.delete()
    else:
        tally.shared = what == "share"
        tally.save(update_fields=["shared"])
    audit(viewer, f"tally: {what}", tally.key, now, before=tally.query)


@transaction.atomic
def make_dashboard(viewer: Viewer, name: str, tiles: Sequence[tuple[str, bool]], now: datetime) -> Dashboard:
    """A dashboard of one's own with these tallies (identifier and whether wide). Raises WriteRefused."""
    owner, name = _owner(viewer), _name(name, "dashboard")
    board = Dashboard.objects.create(key=new_key(Dashboard, name, "b_"), name=name, owner=owner)
    _put(board, tiles)
    audit(viewer, "dashboard made", board.key, now, after=",".join(key for key, _ in tiles))
    return board


def _put(board: Dashboard, tiles: Sequence[tuple[str, bool]]) -> None:
    if len(tiles) > MOST_TILES:
        raise WriteRefused(f"A dashboard can hold up to {MOST_TILES} reports.")
    board.tiles.all().delete()
    Tile.objects.bulk_create(
        Tile(dashboard=board, place=index, tally=key, wide=wide) for index, (key, wide) in enumerate(tiles)
    )


@transaction.atomic
def arrange(
    viewer: Viewer, board: Dashboard, tiles: Sequence[tuple[str, bool]], expected: int | None, now: datetime
) -> None:
    """Put the tiles of a dashboard in this order; raises WriteConflict where it is no longer as `expected`."""
    _require_own(viewer, board.owner, "dashboard")
    board = Dashboard.objects.get(pk=board.pk)
    if expected is not None and expected != board.number:
        raise WriteConflict("The dashboard has changed in the meantime. Reload the page.")
    before = ",".join(board.tiles.order_by("place").values_list("tally", flat=True))
    _put(board, tiles)
    board.number += 1
    board.save(update_fields=["number"])
    audit(viewer, "dashboard arranged", board.key, now, before, ",".join(key for key, _ in tiles))


@transaction.atomic
def set_dashboard(viewer: Viewer, board: Dashboard, name: str, audience: str, starts: bool, now: datetime) -> None:
    """Name a dashboard, say for whom it is, and whether those begin with it; opening it to others is a manager's."""
    _require_own(viewer, board.owner, "dashboard")
    kind, _, key = audience.partition(":")
    known = audience in ("", ALL) or (kind == "role" and key in Role.values)
    if not known and not (kind == "team" and Team.objects.filter(key=key).exists()):
        raise WriteRefused(f"“{audience[:60]}” is not valid. Choose everyone, a role, a team or only yourself.")
    if audience:
        viewer.require(May.SET_RULES)
        if starts:
            Dashboard.objects.filter(audience=audience, starts=True).update(starts=False)
    before = f"{board.name} / {board.audience} / {board.starts}"
    board.name, board.audience, board.starts = _name(name, "dashboard"), audience, starts and bool(audience)
    board.number += 1
    board.save()
    audit(viewer, "dashboard set", board.key, now, before, f"{board.name} / {board.audience} / {board.starts}")


@transaction.atomic
def take_dashboard_away(viewer: Viewer, board: Dashboard, now: datetime) -> None:
    """Take a dashboard away; its tallies stay."""
    _require_own(viewer, board.owner, "dashboard")
    tallies = ",".join(board.tiles.order_by("place").values_list("tally", flat=True))
    audit(viewer, "dashboard taken away", board.key, now, before=f"{board.name}: {tallies}")
    board.delete()
