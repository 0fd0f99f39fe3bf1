"""The node a scope line speaks of, and links to the working of its figures."""

from urllib.parse import urlencode

from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.calendar import Period
from wise_tally.core.trees import NONE
from wise_tally.scope.line import ScopeLine


def scope_node(line: ScopeLine) -> tuple[str, int, str]:
    """Breakdown, node and token of the whole scope: the person, the team or the company."""
    ground, scope = line.book.ground, line.scope
    if scope.person != NONE:
        return "person", scope.person, f"person:{ground.people[scope.person].key}"
    if scope.team != NONE:
        return "team", scope.team, f"team:{ground.teams[scope.team].key}"
    return "company", 0, "company:"


def whole_attainment(line: ScopeLine, period: Period | None = None) -> AttainmentRow:
    """Attainment of the whole scope, for its own or another period."""
    by, node, _ = scope_node(line)
    rows = attainment(line.book, line.standing, period or line.period, line.scope, by)
    return next(row for row in rows if row.forecast.node == node)


def working_query(line: ScopeLine, token: str, period: Period | None = None) -> str:
    """The query that opens the working of a node's figure."""
    given = dict(line.given) | ({"period": period.text} if period else {"period": line.period.text})
    return urlencode([*given.items(), ("node", token)])
