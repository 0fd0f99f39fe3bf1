"""Pages of people and trees: who stands where, moved by drag or keyboard from a day on; rates; handing over."""

from dataclasses import dataclass, field
from datetime import date
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Partner
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person, Team, Territory
from wise_tally.domain.org.people_actions import (
    move_person,
    move_team,
    move_territory,
    open_to,
    set_commission,
    set_rate_above,
)
from wise_tally.domain.org.sign_in_actions import give_sign_in, rename_sign_in
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.setup.lists.forms import MoveForm, RateForm
from wise_tally.web.forms.choices import Pair
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

FOLDED_FROM = 60
"""People above whom teams stand shut until they are opened."""
TITLES = {"teams": "People and teams", "territories": "Territories"}


@dataclass
class TreeNode:
    """A node of the drawn tree with what stands under it."""

    token: str
    slug: str
    key: str
    name: str
    note: str = ""
    retired: bool = False
    below: list["TreeNode"] = field(default_factory=list)
    # People of a team that stands shut.
    folded: int = 0


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_ORGANISATION)
def tree(request: PageRequest, slug: str) -> HttpResponse:
    """The tree of today; moving a node takes effect on a day."""
    if slug not in TITLES:
        raise Http404
    form = MoveForm(_movable(slug), request.POST if request.method == "POST" else None, initial={"from_on": today()})
    if request.method == "POST" and form.is_valid():
        try:
            _move(request, slug, *(form.cleaned_data[name] for name in ("node", "above", "from_on")))
            return redirect("setup:tree", slug=slug)
        except WriteRefused as refused:
            form.add_error(None, str(refused))
    answer = {
        "slug": slug,
        "title": TITLES[slug],
        **_nodes(request, slug, form),
        "form": form,
        "may_edit": request.viewer.may(May.SET_ORGANISATION),
    }
    return render(request, "setup/tree.html", answer, status=422 if form.errors else 200)


def _nodes(request: PageRequest, slug: str, form: MoveForm) -> dict[str, Any]:
    """The tree, what of it can be moved where, and what was typed of that."""
    reference = books.current().reference
    teams = _TeamTree(reference, today(), _opened(request, form, reference))
    roots = teams.roots() if slug == "teams" else _territory_nodes(reference, today())
    flat = _flat(roots)
    return {
        "roots": roots,
        "kind": "owners" if slug == "teams" else "territories",
        "movable": [(node.token, label) for node, label in flat],
        "places_above": [(n.token, label) for n, label in flat if n.slug != "people" and not n.retired],
        "typed": {name: form[name].value() or "" for name in ("node", "above", "from_on")},
        "organisation": reference.organisation,
    }


def _movable(slug: str) -> list[Pair]:
    """What has a place in a tree, as its form names it."""
    records: dict[str, Any] = {"team": Team, "person": Person} if slug == "teams" else {"territory": Territory}
    return [
        (f"{kind}:{key}", name)
        for kind, model in records.items()
        for key, name in model.objects.values_list("key", "name")
    ]


def _move(request: PageRequest, slug: str, node: str, above: str | None, from_on: date) -> None:
    kind, _, key = node.partition(":")
    viewer, moment = request.viewer, now()
    above_key = (above or "").partition(":")[2]
    if slug == "territories" and kind == "territory":
        territory, parent = Territory.objects.filter(key=key).first(), Territory.objects.filter(key=above_key).first()
        if territory is None or (above_key and parent is None):
            raise WriteRefused("This territory is not there any more; load the page again.")
        move_territory(viewer, territory, parent, from_on, moment)
        name = territory.name
    else:
        name = _move_in_teams(request, kind, key, above_key, from_on)
    messages.success(request, f"{name} moves on {day(from_on)}. Earlier dates keep the old structure.")


def _move_in_teams(request: PageRequest, kind: str, key: str, above_key: str, from_on: date) -> str:
    viewer, team_above = request.viewer, Team.objects.filter(key=above_key).first()
    if above_key and team_above is None:
        raise WriteRefused("That team is not there any more; load the page again.")
    if kind == "person":
        person = Person.objects.filter(key=key).first()
        if person is None or team_above is None:
            raise WriteRefused("Choose a team for this person.")
        move_person(viewer, person, team_above, from_on, now())
        return person.name
    team = Team.objects.filter(key=key).first()
    if team is None:
        raise WriteRefused("Choose the person or team to move.")
    move_team(viewer, team, team_above, from_on, now())
    return team.name


def _flat(nodes: list[TreeNode], depth: int = 0) -> list[tuple[TreeNode, str]]:
    rows = []
    for node in nodes:
        rows.append((node, "\u2003" * depth + node.name))
        rows += _flat(node.below, depth + 1)
    return rows


def _opened(request: PageRequest, form: MoveForm, reference: ReferenceData) -> frozenset[str] | None:
    """Teams whose people are listed: those the address opens and that of who is being moved; None for all, where they are few."""
    if len(reference.people) <= FOLDED_FROM:
        return None
    kind, _, key = str(form["node"].value() or "").partition(":")
    moved = [reference.person_index[key]] if kind == "person" and key in reference.person_index else []
    teams = [reference.team_of(index, today().toordinal()) for index in moved]
    return frozenset((*request.GET.getlist("open"), *(reference.teams[team].key for team in teams if team != NONE)))


class _TeamTree:
    """Teams with their people on a day, the people of teams that are not `opened` as a number."""

    def __init__(self, reference: ReferenceData, day: date, opened: frozenset[str] | None) -> None:
        self.reference, self.tree, self.opened = reference, reference.team_tree(day), opened
        self.retired = set(Team.objects.filter(retired=True).values_list("key", flat=True))
        managers = Team.objects.filter(manager__isnull=False).values_list("key", "manager__name")
        self.notes = {key: f"managed by {name}" for key, name in managers} | dict.fromkeys(self.retired, "retired")
        left = set(Person.objects.filter(active_to__lt=day).values_list("key", flat=True))
        self.members: dict[int, list[TreeNode]] = {}
        for index, person in sorted(enumerate(reference.people), key=lambda item: item[1].name):
            note = "has left" if person.key in left else ""
            node = TreeNode(f"person:{person.key}", "people", person.key, person.name, note)
            self.members.setdefault(reference.team_of(index, day.toordinal()), []).append(node)

    def roots(self) -> list[TreeNode]:
        """What stands under the organisation."""
        return [self._node(root) for root in self.tree.children(NONE)] + self.members.get(NONE, [])

    def _node(self, index: int) -> TreeNode:
        team, members = self.reference.teams[index], self.members.get(index, [])
        shut = self.opened is not None and team.key not in self.opened
        below = [self._node(child) for child in self.tree.children(index)] + ([] if shut else members)
        words = (self.notes.get(team.key, ""), team.key in self.retired)
        return TreeNode(f"team:{team.key}", "teams", team.key, team.name, *words, below, len(members) if shut else 0)


def _territory_nodes(reference: ReferenceData, day: date) -> list[TreeNode]:
    tree = reference.territory_tree(day)
    retired = set(Territory.objects.filter(retired=True).values_list("key", flat=True))

    def node_of(index: int) -> TreeNode:
        territory = reference.territories[index]
        below = [node_of(child) for child in tree.children(index)]
        gone = territory.key in retired
        note = "retired" if gone else ""
        return TreeNode(f"territory:{territory.key}", "territories", territory.key, territory.name, note, gone, below)

    return [node_of(root) for root in tree.children(NONE)]


@require_POST
@changing_needs(May.SET_ORGANISATION)
def rate(request: PageRequest, slug: str, key: str) -> HttpResponse:
    """Set the commission rate of a person or partner from a day on; a person's for the part above quota apart."""
    if slug not in ("people", "partners"):
        raise Http404
    record: Person | Partner
    record = get_object_or_404(Person, key=key) if slug == "people" else get_object_or_404(Partner, key=key)
    typed = RateForm(request.POST).values()
    subject = "person" if slug == "people" else "partner"
    if request.POST.get("part") == "above" and isinstance(record, Person):
        set_rate_above(request.viewer, record, typed["rate"], typed["from_on"], now())
    else:
        set_commission(request.viewer, subject, key, typed["rate"], typed["from_on"], now(), record.commission_rate_bp)
    messages.success(request, f"The rate applies from {day(typed['from_on'])}.")
    return redirect("setup:entry", slug=slug, key=key)


@require_POST
@changing_needs(May.SET_ORGANISATION)
def person(request: PageRequest, key: str) -> HttpResponse:
    """Open teams to a viewer, or give a sign-in."""
    person_record, viewer = get_object_or_404(Person, key=key), request.viewer
    what = request.POST.get("what", "")
    if what == "sign-in":
        name, password = give_sign_in(viewer, person_record, now())
        # On this answer alone: it is kept nowhere, not in the session either.
        return render(
            request, "setup/sign_in_given.html", {"person": person_record, "name": name, "password": password}
        )
    if what == "sign-in-name":
        rename_sign_in(viewer, person_record, request.POST.get("name", ""), now())
        messages.success(request, "The user name was changed.")
    elif what == "open":
        open_to(viewer, person_record, list(Team.objects.filter(key__in=request.POST.getlist("team"))), now())
        messages.success(request, "Access saved.")
    else:
        raise Refused("Choose what to do.")
    return redirect("setup:entry", slug="people", key=key)
