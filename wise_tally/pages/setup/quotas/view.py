"""What the quota page shows: fiscal year or custom period, kind of target, which tree; read from the address."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from urllib.parse import urlencode

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.reference_data import ReferenceData
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

TREES = ("people", "territories", "partners")
ACTIVITY_KINDS = ("phone", "meeting", "mail", "site_visit", "task")
FILTERS = ("product_group", "deal_type", "source", "activity_kind")
Seen = frozenset[int] | None


@dataclass(frozen=True)
class PlanNode:
    """A row of the grid; `parent` is the place of the row it adds to, -1 for none.

    `sells` is false for people who do not sell in the year (managers, administrators, leavers): an equal spread
    leaves them out.
    """

    subject: str
    key: str
    name: str
    index: int
    depth: int
    parent: int
    sells: bool = True

    @property
    def token(self) -> str:
        """How forms name the row."""
        return f"{self.subject}:{self.key}"


@dataclass(frozen=True)
class PlanView:
    """The part of the plan shown."""

    year: int
    tree: str
    kind: QuotaKind
    custom: str
    periods: tuple[Period, ...]

    @property
    def by_month(self) -> bool:
        """Whether the columns are the twelve months."""
        return not self.custom

    def query(self, **other: object) -> str:
        """The address of this view with some parts replaced."""
        parts = {"year": self.year, "tree": self.tree, "period": self.custom, **self.kind.columns, **other}
        shipped = {"tree": "people", "metric": str(Metric.WON_AMOUNT)}
        return urlencode({k: v for k, v in parts.items() if v not in ("", None) and shipped.get(k) != v})

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
    if not (text.isascii() and text.isdigit() and 1902 <= int(text[:5]) <= 2198):
        raise Refused(f"“{text[:20]}” is not a fiscal year. Enter a year such as {default}.")
    tree, metric = given.get("tree", "people"), given.get("metric", str(Metric.WON_AMOUNT))
    one_of(tree, TREES, "cannot be planned")
    one_of(metric, Metric.values, "is not a metric")
    kind = QuotaKind(metric, **{name: given.get(name, "")[:200] for name in FILTERS})
    if kind.activity_kind and (kind.activity_kind not in ACTIVITY_KINDS or metric != Metric.ACTIVITIES):
        raise Refused(f"An activity kind goes with activities only. Choose one of: {', '.join(ACTIVITY_KINDS)}.")
    custom = given.get("period", "")
    periods = reference.fiscal.months_of(int(text))
    if custom:
        found = CustomPeriod.objects.filter(key=custom).first()
        if found is None:
            raise Refused(f"“{custom[:64]}” is not a custom period. Choose one from the list.", 404)
        periods = (reference.fiscal.parse(f"{found.starts_on}/{found.ends_on}"),)
    return PlanView(int(text), tree, kind, custom, tuple(periods))


def filter_choices(reference: ReferenceData) -> dict[str, list[str]]:
    """What each filter may be."""
    groups = Product.objects.exclude(product_group="").order_by("product_group").values_list("product_group", flat=True)
    return {
        "product_group": list(groups.distinct()),
        "deal_type": list(reference.deal_types),
        "source": list(reference.sources),
        "activity_kind": list(ACTIVITY_KINDS),
    }


def nodes_of(book: Book, view: PlanView, today: date, seen: Seen) -> list[PlanNode]:
    """The rows of the grid. `seen` narrows teams to those that the viewer may open; None is the whole organisation."""
    reference = book.reference
    if view.tree == "partners":
        partners = enumerate(Partner.objects.order_by("pk").values_list("key", "name"))
        listed = sorted(partners, key=lambda item: item[1][1])
        return [PlanNode("partner", key, name, index, 0, NONE) for index, (key, name) in listed] if seen is None else []
    if view.tree == "territories":
        return _territories(reference, today) if seen is None else []
    return _people(reference, today, seen, view.periods[0].starts_on)


def _territories(reference: ReferenceData, today: date) -> list[PlanNode]:
    tree, rows, index = reference.territory_tree(today), list[PlanNode](), dict[int, int]()
    for node, depth in in_tree_order(tree):
        index[node] = len(rows)
        parent = index.get(tree.parents[node], NONE)
        rows.append(
            PlanNode(
                "territory", reference.territories[node].key, reference.territories[node].name, node, depth, parent
            )
        )
    return rows


def _people(reference: ReferenceData, today: date, seen: Seen, begins: date) -> list[PlanNode]:
    tree = reference.team_tree(today)
    members: dict[int, list[int]] = {}
    for index in range(len(reference.people)):
        members.setdefault(reference.team_of(index, today.toordinal()), []).append(index)
    selling = Person.objects.filter(role__in=(Role.REP, "")).exclude(active_to__lt=begins)
    sellers = set(selling.values_list("key", flat=True))
    rows = [PlanNode("company", "", reference.organisation, NONE, 0, NONE)] if seen is None else []
    place: dict[int, int] = {NONE: 0} if rows else {}

    def add_people(team: int, depth: int) -> None:
        for person in sorted(members.get(team, []), key=lambda i: reference.people[i].name):
            record = reference.people[person]
            parent, sells = place.get(team, NONE), record.key in sellers
            rows.append(PlanNode("person", record.key, record.name, person, depth, parent, sells))

    for team, depth in in_tree_order(tree):
        if seen is not None and team not in seen:
            continue
        above = place.get(tree.parents[team], NONE)
        place[team] = len(rows)
        rows.append(PlanNode("team", reference.teams[team].key, reference.teams[team].name, team, depth + 1, above))
        add_people(team, depth + 2)
    if seen is None:
        add_people(NONE, 1)
    return rows
