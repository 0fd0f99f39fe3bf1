"""Breakdowns: the nodes that figures are broken down by, one breakdown alone or a second one within a first.

A breakdown is a name: one of BREAKDOWNS, of the facets of `beside`, `own:` with an own field's identifier, or
`product_group`. A pair of two is one name too, made by `pair`.
"""

from dataclasses import dataclass
from datetime import date

from wise_tally.core.book import Book
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.trees import NONE, Tree

BREAKDOWNS = ("company", "team", "person", "territory", "process", "deal_type", "source")
PEOPLE = ("team", "person")
# A control character, so that no breakdown's name holds it.
WITHIN = "\x1f"


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

    def called(self, node: int) -> tuple[str | None, str | None]:
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

    def called(self, node: int) -> tuple[str | None, str | None]:
        """Identifier and name of the second of a pair."""
        return self.second.called(self.split(node)[1])

    def split(self, node: int) -> tuple[int, int]:
        """First and second node of a pair; -1 for none."""
        first, second = divmod(node, self.second.size + 1)
        return (NONE if first == self.first.size else first), (NONE if second == self.second.size else second)

    def joined(self, first: int, second: int) -> int:
        """The pair of two nodes, -1 being none."""
        rows = (self.first.size if first == NONE else first, self.second.size if second == NONE else second)
        return rows[0] * (self.second.size + 1) + rows[1]


def grouping(book: Book, by: str, as_of: date) -> Grouping:
    """The nodes of breakdown `by`, with the tree of `as_of`. Raises UnknownBreakdown."""
    reference = book.reference
    if WITHIN in by:
        first, second = (grouping(book, part, as_of) for part in by.rsplit(WITHIN, 1))
        return Pairs(by, (), (), None, first, second)
    if by == "company":
        return Grouping(by, ("",), (reference.organisation,), None)
    if by in ("team", "territory"):
        nodes = reference.teams if by == "team" else reference.territories
        tree = reference.team_tree(as_of) if by == "team" else reference.territory_tree(as_of)
        return Grouping(by, tuple(n.key for n in nodes), tuple(n.name for n in nodes), tree)
    if by == "person":
        return Grouping(by, tuple(p.key for p in reference.people), tuple(p.name for p in reference.people), None)
    if by == "process":
        keys, names = zip(*reference.processes, strict=True) if reference.processes else ((), ())
        return Grouping(by, keys, names, None)
    if by == PRODUCT_GROUP:
        groups = book.attributes.group_lines().groups
        return Grouping(by, groups, groups, None)
    if by in ("deal_type", "source"):
        names = reference.deal_types if by == "deal_type" else reference.sources
        return Grouping(by, names, names, None)
    facet = book.attributes.facet(by)
    return Grouping(by, facet.keys, facet.names, None)


def node_named(group: Grouping, key: str) -> int:
    """The node of an identifier, -1 for the empty one: the row without. Raises LookupError for one that is not there."""
    if not key and group.by != "company":
        return NONE
    if key not in group.keys:
        raise LookupError(key)
    return group.keys.index(key)
