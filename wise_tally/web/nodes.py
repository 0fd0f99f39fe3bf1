"""The node a filter line speaks of, tokens that name nodes in links, and links to the working of figures."""

from datetime import date
from urllib.parse import quote, unquote, urlencode

from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.book import Book
from wise_tally.core.breakdowns import WITHIN, Grouping, Pairs, grouping, node_named
from wise_tally.core.calendar import Period
from wise_tally.core.trees import NONE
from wise_tally.web.filter_line import FilterLine


def scope_node(line: FilterLine) -> tuple[str, int, str]:
    """Breakdown, node and token of the whole scope: the person, the team or the company."""
    reference, scope = line.book.reference, line.scope
    if scope.person != NONE:
        return "person", scope.person, f"person:{reference.people[scope.person].key}"
    if scope.team != NONE:
        return "team", scope.team, f"team:{reference.teams[scope.team].key}"
    return "company", 0, "company:"


def whole_attainment(line: FilterLine, period: Period | None = None) -> AttainmentRow:
    """Attainment of the whole scope, for its own or another period."""
    by, node, _ = scope_node(line)
    rows = attainment(line.book, line.snapshot, period or line.period, line.scope, by)
    return next(row for row in rows if row.forecast.node == node)


def working_query(line: FilterLine, token: str, period: Period | None = None) -> str:
    """The query that opens the working of a node's figure."""
    given = dict(line.given) | ({"period": period.text} if period else {"period": line.period.text})
    return urlencode([*given.items(), ("node", token)])


def token_of(group: Grouping, node: int) -> str:
    """A node as links name it, such as `team:north` or `team:fells/person:r01`; the row without one has no identifier."""
    if isinstance(group, Pairs):
        first, second = group.split(node)
        return f"{token_of(group.first, first)}/{token_of(group.second, second)}"
    return f"{quote(group.by, safe=':')}:{quote(group.key_and_name(node)[0] or '', safe='')}"


def node_of(book: Book, token: str, as_of: date) -> tuple[str, int]:
    """Breakdown and node of a token; raises LookupError or UnknownBreakdown for one that names nothing in the book."""
    parts = [(unquote(by), unquote(key)) for by, _, key in (part.rpartition(":") for part in token.split("/"))]
    by = WITHIN.join(name for name, _ in parts)
    node = _node_of(grouping(book, by, as_of), [key for _, key in parts])
    return by, node


def _node_of(group: Grouping, keys: list[str]) -> int:
    if not isinstance(group, Pairs):
        return node_named(group, keys[0])
    return group.joined(_node_of(group.first, keys[:-1]), node_named(group.second, keys[-1]))
