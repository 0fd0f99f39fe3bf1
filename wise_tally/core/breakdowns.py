"""The register of breakdowns: into which rows deals are divided, one breakdown alone or a second one within a first.

A breakdown is named by its key: one of REGISTER, or `own:` with the identifier of a custom field. A pair of two is one name too, made
by `pair`. Everything that offers, reads, groups or words a breakdown asks here.
"""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.deal_attributes import OWN, PRODUCT_GROUP
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.same_days import year_before
from wise_tally.core.trees import NONE, Tree

# A control character, so that no breakdown's name holds it.
WITHIN = "\x1f"
PEOPLE = ("team", "person")
CUSTOMER_SIZE = "customer_size"


def pair(by: str, within: str) -> str:
    """The breakdown by `within` inside each node of `by`."""
    return f"{by}{WITHIN}{within}"


MEMBER = pair("team", "person")


def parts_of(by: str) -> tuple[str, ...]:
    """The breakdowns of a name, one or several within each other."""
    return tuple(by.split(WITHIN))


@dataclass(frozen=True)
class Grouping:
    """The nodes of a breakdown; `tree` where nodes stand below one another."""

    by: str
    keys: tuple[str, ...]
    names: tuple[str, ...]
    tree: Tree | None

    @property
    def size(self) -> int:
        """Number of nodes."""
        return len(self.keys)

    def key_and_name(self, node: int) -> tuple[str | None, str | None]:
        """Identifier and name of a node; none of the row without the attribute."""
        return (None, None) if node == NONE else (self.keys[node], self.names[node])


@dataclass(frozen=True)
class Pairs(Grouping):
    """The nodes of a breakdown within another; each of the two may also be none, its last place.

    Nodes are those that deals belong to directly, whatever trees there are, so that they add up to the first's.
    """

    first: Grouping
    second: Grouping

    @property
    def size(self) -> int:
        """Number of pairs."""
        return (self.first.size + 1) * (self.second.size + 1)

    def key_and_name(self, node: int) -> tuple[str | None, str | None]:
        """Identifier and name of the second of a pair."""
        return self.second.key_and_name(self.split(node)[1])

    def split(self, node: int) -> tuple[int, int]:
        """First and second node of a pair; -1 for none."""
        first, second = divmod(node, self.second.size + 1)
        return (NONE if first == self.first.size else first), (NONE if second == self.second.size else second)

    def joined(self, first: int, second: int) -> int:
        """The pair of two nodes, -1 being none."""
        rows = (self.first.size if first == NONE else first, self.second.size if second == NONE else second)
        return rows[0] * (self.second.size + 1) + rows[1]


@dataclass(frozen=True)
class Breakdown:
    """One way to divide deals: its key in addresses and files, its words, its nodes, and the node of each deal.

    `of_deal` gives the node of each deal of the snapshot (-1 none); where it is None, credited lines say it (people, product groups).
    `of_forecast`: rows of forecast, attainment and reports. `limits`: a selection can be limited to one of its values.
    """

    key: str
    label: str
    nodes: Callable[[Book, date], Grouping]
    of_deal: Callable[[Book, BookAsOf], Ints] | None = None
    of_forecast: bool = True
    limits: bool = False


def _facet(key: str, label: str = "", of_forecast: bool = True) -> Breakdown:
    """A breakdown by an attribute of deals."""

    def nodes(book: Book, as_of: date) -> Grouping:
        facet = book.attributes.facet(key, as_of)
        return Grouping(key, facet.keys, facet.names, None)

    def of_deal(book: Book, snapshot: BookAsOf) -> Ints:
        return book.attributes.facet(key, snapshot.as_of).of_deal[snapshot.deal]

    return Breakdown(key, label or key.replace("_", " "), nodes, of_deal, of_forecast, limits=of_forecast)


def _named(key: str, names: tuple[str, ...]) -> Grouping:
    return Grouping(key, names, names, None)


def _teams(book: Book, as_of: date) -> Grouping:
    nodes = book.reference.teams
    return Grouping("team", tuple(n.key for n in nodes), tuple(n.name for n in nodes), book.reference.team_tree(as_of))


def _territories(book: Book, as_of: date) -> Grouping:
    nodes, tree = book.reference.territories, book.reference.territory_tree(as_of)
    return Grouping("territory", tuple(n.key for n in nodes), tuple(n.name for n in nodes), tree)


def _people(book: Book, as_of: date) -> Grouping:
    people = book.reference.people
    return Grouping("person", tuple(p.key for p in people), tuple(p.name for p in people), None)


def _processes(book: Book, as_of: date) -> Grouping:
    processes = book.reference.processes
    return Grouping("process", tuple(key for key, _ in processes), tuple(name for _, name in processes), None)


def _stages(book: Book, as_of: date) -> Grouping:
    """Stages; where there are several processes, with the name of theirs."""
    stages, processes = book.reference.stages, book.reference.processes
    several = len(processes) > 1
    names = (f"{s.name}, {processes[s.process][1].lower()}" if several else s.name for s in stages)
    return Grouping("stage", tuple(stage.key for stage in stages), tuple(names), None)


def customer_classes(invoices: Ints, customer: Ints, as_of: date, begins_minor: Ints) -> Ints:
    """The class of the customer of each deal by the sales of the twelve months that end with `as_of`; -1 without a customer.

    `invoices` has a row each of customer, day ordinal and amount in minor units (credit notes are negative), `customer` that
    of each deal, 0 for none. The class is the last whose begin (minor units, ascending) the sales reach, the first for less.
    Source: own definition.
    """
    of, day, amount = invoices.T
    inside = (day > year_before(as_of).toordinal()) & (day <= as_of.toordinal())
    sales = sum_by_group(amount[inside], of[inside], int(max(of.max(initial=0), customer.max(initial=0))) + 1)
    index = np.maximum(np.searchsorted(begins_minor, sales[customer], side="right") - 1, 0)
    return np.where(customer > 0, index, NONE)


_ALL = (
    Breakdown("company", "total", lambda book, _: Grouping("company", ("",), (book.reference.organisation,), None)),
    Breakdown("team", "team", _teams),
    Breakdown("person", "person", _people),
    Breakdown("territory", "territory", _territories, lambda _, snapshot: snapshot.territory),
    Breakdown("process", "process", _processes, lambda book, snapshot: book.deals.process[snapshot.deal]),
    Breakdown("stage", "stage", _stages, lambda _, snapshot: snapshot.stage),
    Breakdown(
        "deal_type",
        "deal type",
        lambda book, _: _named("deal_type", book.reference.deal_types),
        lambda book, snapshot: book.deals.deal_type[snapshot.deal],
        limits=True,
    ),
    Breakdown(
        "source",
        "source",
        lambda book, _: _named("source", book.reference.sources),
        lambda book, snapshot: book.deals.source[snapshot.deal],
        limits=True,
    ),
    Breakdown(
        PRODUCT_GROUP,
        "product group",
        lambda book, _: _named(PRODUCT_GROUP, book.attributes.group_lines().groups),
        limits=True,
    ),
    _facet("partner"),
    _facet("deal_type_group", "deal type group"),
    _facet("campaign"),
    _facet("industry"),
    _facet("country"),
    _facet("competitor"),
    # By invoices of the twelve months that end on the day; the organisation sets the classes.
    _facet(CUSTOMER_SIZE, "size of the customer"),
    # Its bands come from the scope: `size_bands.with_size_bands` puts them into the book.
    _facet("size", "deal size", of_forecast=False),
)
REGISTER = {one.key: one for one in _ALL}
# Rows of forecast, attainment and reports, besides the whole; and what a selection can be limited to.
OF_FORECAST = tuple(one.key for one in _ALL[1:] if one.of_forecast)
OF_FIGURES = ("company", *OF_FORECAST)
LIMITING = tuple(one.key for one in _ALL if one.limits)


def breakdown(by: str) -> Breakdown:
    """The breakdown of a key; any other is taken for an attribute of deals, which may raise UnknownBreakdown when it is read."""
    return REGISTER.get(by) or _facet(by)


def may_limit(by: str) -> bool:
    """Whether a selection can be limited to one value of a breakdown."""
    return by in LIMITING or by.startswith(OWN)


def grouping(book: Book, by: str, as_of: date) -> Grouping:
    """The nodes of breakdown `by`, with the tree of `as_of`. Raises UnknownBreakdown."""
    if WITHIN in by:
        first, second = (grouping(book, part, as_of) for part in by.rsplit(WITHIN, 1))
        return Pairs(by, (), (), None, first, second)
    return breakdown(by).nodes(book, as_of)


def deal_attribute(book: Book, snapshot: BookAsOf, by: str) -> Ints:
    """The node of each deal of the snapshot, -1 for none; `by` is none of people and product groups."""
    of_deal = breakdown(by).of_deal
    assert of_deal is not None, by
    return of_deal(book, snapshot)


def node_named(group: Grouping, key: str) -> int:
    """The node of an identifier, -1 for the empty one: the row without. Raises LookupError for one that is not there."""
    if not key and group.by != "company":
        return NONE
    if key not in group.keys:
        raise LookupError(key)
    return group.keys.index(key)
