"""Saved views of the list of deals."""

from datetime import datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import Q, QuerySet

from wise_tally.domain.deals.models import SavedView
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import new_key
from wise_tally.domain.refusals import WriteRefused

CHANGES = ("start", "no start", "share", "unshare", "away")


def views_of(viewer: Viewer) -> QuerySet[SavedView]:
    """The viewer's own views and those that others share, own ones first."""
    mine = Q(owner__key=viewer.key)
    return SavedView.objects.filter(mine | Q(shared=True)).select_related("owner").order_by("name", "key")


@transaction.atomic
def save_view(viewer: Viewer, name: str, query: str, shared: bool, now: datetime) -> SavedView:
    """Keep a view under a name; one's own view of that name is replaced. Raises WriteRefused."""
    name = name.strip()
    owner = Person.objects.filter(key=viewer.key).first()
    if not name or len(name) > 200 or owner is None:
        raise WriteRefused("Enter a name for the view (up to 200 characters).")
    if len(query) > 10_000:
        raise WriteRefused("The view has too many filters. Remove some.")
    view = SavedView.objects.filter(owner=owner, name=name).first()
    if view is None:
        view = SavedView.objects.create(
            key=new_key(SavedView, name), name=name, owner=owner, shared=shared, query=query
        )
    else:
        view.query, view.shared = query, shared
        view.save(update_fields=["query", "shared"])
    audit(viewer, "view saved", view.key, now, after=query)
    return view


@transaction.atomic
def change_view(viewer: Viewer, view: SavedView, what: str, now: datetime) -> None:
    """Make a view the start of one's list, share it, or take it away; a shared one of others is copied to be a start."""
    if what not in CHANGES:
        raise WriteRefused(f"“{what[:20]}” is not valid. Choose one of: {', '.join(CHANGES)}.")
    own = view.owner.key == viewer.key
    if what == "start":
        if not own:
            view = save_view(viewer, view.name, view.query, False, now)
        SavedView.objects.filter(owner__key=viewer.key, starts=True).update(starts=False)
        SavedView.objects.filter(pk=view.pk).update(starts=True)
    elif not own and not viewer.may(May.SET_ORGANISATION):
        raise PermissionDenied("This view belongs to somebody else. Its owner or an administrator can change it.")
    elif what == "away":
        view.delete()
    else:
        changed = {"no start": {"starts": False}, "share": {"shared": True}, "unshare": {"shared": False}}[what]
        SavedView.objects.filter(pk=view.pk).update(**changed)
    audit(viewer, f"view: {what}", view.key, now)
