"""What the quota page shows: fiscal year or custom period, kind of target, which tree; read from the address."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Literal
from urllib.parse import urlencode

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.number_reader import whole_number
from wise_tally.core.reference_data import OPEN, ReferenceData
from wise_tally.core.targets import Target, Targets
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Partner, Product
from wise_tally.domain.formats import bare, currency_decimals, decimal_sign, money_input
from wise_tally.domain.org.models import Person, Role
from wise_tally.domain.targets.actions import QuotaKind
from wise_tally.domain.targets.models import CustomPeriod, Metric
from wise_tally.domain.typed_numbers import typed_count, typed_money
from wise_tally.web.filter_line import in_tree_order
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused

# What may be planned, and what its rows are.
TREES = {"people": "team or person", "territories": "territory", "partners": "partner"}
ACTIVITY_KINDS = ("phone", "meeting", "mail", "site_visit", "task")
FILTERS = ("product_group", "deal_type", "source", "activity_kind")
VisibleTeams = frozenset[int] | None


# Who sells; who manages or administers, with deals of their own or without; who has left by the year.
Selling = Literal["sells", "manages with deals", "manages", "left"]
# Which managers an equal spread reaches.
MANAGERS = {"with-deals": "those with own deals", "none": "none", "all": "all"}
LOOKED_BACK = 365


@dataclass(frozen=True)
class PlanNode:
    """A row of the grid; `parent` is the place of the row it adds to, -1 for none.

    `selling` tells whether an equal spread reaches a person: see `Selling`.
    """

    subject: str
    key: str
    name: str
    index: int
    depth: int
    parent: int
    selling: Selling = "sells"

    @property
    def token(self) -> str:
        """How forms name the row."""
        return f"{self.subject}:{self.key}"

    def shares(self, managers: str) -> bool:
        """Whether an equal spread reaches the row, with the choice of managers."""
        reached = {"with-deals": ("sells", "manages with deals"), "none": ("sells",)}
        return self.selling != "left" and self.selling in reached.get(
            managers, ("sells", "manages with deals", "manages")
        )


@dataclass(frozen=True)
class PlanView:
    """The part of the plan shown."""

    year: int
    tree: str
    kind: QuotaKind
    custom: str
    periods: tuple[Period, ...]
    # The team (its token, empty for none) whose people a large plan shows; None shows all.
    people: str | None = ""
    # Territories and partners are turned over.
    page: int = 1

    @property
    def row_words(self) -> str:
        """What the rows are."""
        return TREES[self.tree]

    @property
    def by_month(self) -> bool:
        """Whether the columns are the twelve months."""
        return not self.custom

    def query(self, **other: object) -> str:
        """The address of this view with some parts replaced."""
        parts = {
            "year": self.year,
            "tree": self.tree,
            "period": self.custom,
            **self.kind.columns,
            "people": self.people,
            "page": self.page,
            **other,
        }
        shipped = {"tree": "people", "metric": str(Metric.WON_AMOUNT), "page": 1}
        return urlencode({k: v for k, v in parts.items() if v not in ("", None) and shipped.get(k) != v})

    def target(self, targets: Targets, node: PlanNode) -> Target:
        """The target of a row; the company's parts are those of the tree shown."""
        if self.tree == "territories" and node.subject == "company":
            return targets.of_territories
        return targets.of(node.subject, node.index)

    def shown(self, value: int | None) -> str:
        """A kept value as typed."""
        if self.kind.is_money:
            return str(money_input(value)).removesuffix(f"{decimal_sign()}00")
        return str(bare(value))

    def typed(self, text: str) -> int | str:
        """A typed value as kept, or what is wrong and what is accepted."""
        return typed_money(text, currency_decimals()) if self.kind.is_money else typed_count(text)


def read_view(given: Mapping[str, str], reference: ReferenceData, today: date) -> PlanView:
    """The view of an address; raises Refused with what is accepted."""
    default = reference.fiscal.fiscal_year_of(today)
    text = given.get("year", str(default))
    year = whole_number(text, 2198)
    if year is None or year < 1902:
        raise Refused(f"“{text[:20]}” is not a fiscal year. Enter a year such as {default}.")
    tree, metric = given.get("tree", "people"), given.get("metric", str(Metric.WON_AMOUNT))
    one_of(tree, TREES, "cannot be planned")
    one_of(metric, Metric.values, "is not a metric")
    kind = QuotaKind(metric, **{name: given.get(name, "")[:200] for name in FILTERS})
    if kind.activity_kind and (kind.activity_kind not in ACTIVITY_KINDS or metric != Metric.ACTIVITIES):
        raise Refused(f"An activity kind goes with activities only. Choose one of: {', '.join(ACTIVITY_KINDS)}.")
    custom = given.get("period", "")
    periods = reference.fiscal.months_of(year)
    if custom:
        custom_period = CustomPeriod.objects.filter(key=custom).first()
        if custom_period is None:
            raise Refused(f"“{custom[:64]}” is not a custom period. Choose one from the list.", 404)
        periods = (reference.fiscal.parse(f"{custom_period.starts_on}/{custom_period.ends_on}"),)
    page = whole_number(given.get("page", "")) or 1
    return PlanView(year, tree, kind, custom, tuple(periods), given.get("people", "")[:80], page)


def filter_choices(reference: ReferenceData) -> dict[str, list[str]]:
    """What each filter may be."""
    groups = Product.objects.exclude(product_group="").order_by("product_group").values_list("product_group", flat=True)
    return {
        "product_group": list(groups.distinct()),
        "deal_type": list(reference.deal_types),
        "source": list(reference.sources),
        "activity_kind": list(ACTIVITY_KINDS),
    }


def nodes_of(book: Book, view: PlanView, today: date, visible_teams: VisibleTeams) -> list[PlanNode]:
    """The rows of the grid. `visible_teams` narrows teams to those that the viewer may open; None is the whole organisation."""
    reference = book.reference
    if view.tree == "partners":
        partners = enumerate(Partner.objects.order_by("pk").values_list("key", "name"))
        listed = sorted(partners, key=lambda item: item[1][1])
        return (
            [PlanNode("partner", key, name, index, 0, NONE) for index, (key, name) in listed]
            if visible_teams is None
            else []
        )
    if view.tree == "territories":
        return _territories(reference, today) if visible_teams is None else []
    return _people(book, today, visible_teams, view.periods[0].starts_on)


def _territories(reference: ReferenceData, today: date) -> list[PlanNode]:
    tree, index = reference.territory_tree(today), dict[int, int]()
    rows = [PlanNode("company", "", reference.organisation, NONE, 0, NONE)]
    for node, depth in in_tree_order(tree):
        index[node] = len(rows)
        parent, record = index.get(tree.parents[node], 0), reference.territories[node]
        rows.append(PlanNode("territory", record.key, record.name, node, depth + 1, parent))
    return rows


def _selling(book: Book, today: date, begins: date) -> dict[int, Selling]:
    """Who of the people sells in a year that begins on a day."""
    snapshot = book.as_of(today)
    lately = (snapshot.kind == OPEN) | (snapshot.closed_on > today.toordinal() - LOOKED_BACK)
    owners = set(np.unique(snapshot.owner[lately]).tolist())
    roles = {key: (role, left) for key, role, left in Person.objects.values_list("key", "role", "active_to")}
    by_person: dict[int, Selling] = {}
    for index, person in enumerate(book.reference.people):
        role, left = roles.get(person.key, ("", None))
        if left is not None and left < begins:
            by_person[index] = "left"
        elif role in (Role.REP, ""):
            by_person[index] = "sells"
        else:
            by_person[index] = "manages with deals" if index in owners else "manages"
    return by_person


def _people(book: Book, today: date, visible_teams: VisibleTeams, begins: date) -> list[PlanNode]:
    reference, selling = book.reference, _selling(book, today, begins)
    tree = reference.team_tree(today)
    members: dict[int, list[int]] = {}
    for index in range(len(reference.people)):
        members.setdefault(reference.team_of(index, today.toordinal()), []).append(index)
    rows = [PlanNode("company", "", reference.organisation, NONE, 0, NONE)] if visible_teams is None else []
    order: dict[int, int] = {NONE: 0} if rows else {}

    def add_people(team: int, depth: int) -> None:
        for person in sorted(members.get(team, []), key=lambda i: reference.people[i].name):
            record = reference.people[person]
            parent = order.get(team, NONE)
            rows.append(PlanNode("person", record.key, record.name, person, depth, parent, selling[person]))

    for team, depth in in_tree_order(tree):
        if visible_teams is not None and team not in visible_teams:
            continue
        above = order.get(tree.parents[team], NONE)
        order[team] = len(rows)
        rows.append(PlanNode("team", reference.teams[team].key, reference.teams[team].name, team, depth + 1, above))
        add_people(team, depth + 2)
    if visible_teams is None:
        add_people(NONE, 1)
    return rows
