"""What pages expect of a scope: by the outlook where it leads, else by set probabilities."""

from wise_tally.core.outlook.expected import AS_SET, OUTLOOK, Expected, expected
from wise_tally.core.outlook.trust import Trust
from wise_tally.core.outlook.verdict import verdict
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import scope_node


def trust_of(line: FilterLine) -> Trust:
    """Whether the outlook leads for the filter line's scope and period."""
    return verdict(line.book, line.snapshot, line.period, line.scope)


def leading_way(trust: Trust) -> str:
    """The chances that lead."""
    return OUTLOOK if trust.outlook_leads else AS_SET


def expected_of(line: FilterLine, way: str, quota_minor: int | None, most: int = 0) -> Expected:
    """What is expected of the filter line's scope in a way, with the `most` deals that matter most."""
    by = scope_node(line)[0]
    return expected(line.book, line.snapshot, line.period, line.scope, by, way, quota_minor, most)
