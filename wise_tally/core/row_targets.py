"""The target of each row of a breakdown, and where a scope leaves rows without one."""

from collections.abc import Callable
from datetime import date

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.breakdowns import MEMBER, WITHIN, Pairs, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.lines import Filter
from wise_tally.core.measures import METRICS
from wise_tally.core.targets import NO_TARGET, PLAIN, Target, pace, quotas
from wise_tally.core.trees import NONE

OfNode = Callable[[int], Target]
# Rows whose quotas are the company's that carry just that value, and its place among a quota's filters.
FILTERED = {PRODUCT_GROUP: 0, "deal_type": 1, "source": 2}
SUBJECTS = ("company", "team", "person", "territory", "partner")


def quota_filters(book: Book, scope: Filter, as_of: date) -> tuple[str, str, str, str]:
    """The filters that a quota must carry to mean the deals of which the scope keeps only some."""
    filters = list(PLAIN)
    for by, node in scope.only:
        filters[FILTERED[by]] = grouping(book, by, as_of).keys[node] if node != NONE else ""
    return filters[0], filters[1], filters[2], filters[3]


def carries_quota(scope: Filter, by: str) -> bool:
    """Whether quotas of `by` rows mean the same deals as the filter keeps."""
    if any(name not in FILTERED or node == NONE for name, node in scope.only):
        return False
    if scope.process != NONE or by == "process":
        return False
    if by == "territory":
        return not scope.of_people
    if scope.territory != NONE:
        return False
    if by in ("person", MEMBER):
        return True
    if by == "team":
        return scope.person == NONE
    return WITHIN not in by and not scope.of_people


def row_targets(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, to_date: bool = False
) -> OfNode:
    """The target of a node of `by` for what the snapshot measures, cut off after its day where `to_date`.

    None where the filter keeps other deals than quotas mean, where no target is of this measure, or by another day
    than that of closing. A person's within teams stands in the team of the day only.
    """
    metric = METRICS.get(snapshot.measure)
    if metric is None or snapshot.due_on is not None or not carries_quota(scope, by):
        return _no_target
    reference, read = book.reference, (pace if to_date else quotas)
    if by in FILTERED:
        return _no_target if scope.only else _filtered(book, snapshot, period, by, to_date)
    if by != MEMBER and by not in SUBJECTS:
        return _no_target
    targets = read(reference, snapshot.as_of, period, metric, quota_filters(book, scope, snapshot.as_of))
    if by != MEMBER:
        return lambda node: NO_TARGET if node == NONE else targets.of(by, node)

    person_at = person_of_node(book, snapshot)
    return lambda node: targets.of("person", person_at(node)) if person_at(node) != NONE else NO_TARGET


def _no_target(node: int) -> Target:
    return NO_TARGET


def _filtered(book: Book, snapshot: BookAsOf, period: Period, by: str, to_date: bool) -> OfNode:
    metric, read = METRICS[snapshot.measure], (pace if to_date else quotas)
    carried = {quota.filters for quota in book.reference.quotas}
    keys = grouping(book, by, snapshot.as_of).keys

    def of_row(node: int) -> Target:
        filters = ["", "", "", ""]
        filters[FILTERED[by]] = keys[node] if node != NONE else ""
        wanted = (filters[0], filters[1], filters[2], filters[3])
        return (
            read(book.reference, snapshot.as_of, period, metric, wanted).company
            if wanted in carried - {PLAIN}
            else NO_TARGET
        )

    return of_row


def person_of_node(book: Book, snapshot: BookAsOf) -> Callable[[int], int]:
    """The person of a node of people within teams where it is the team of the day; else -1."""
    group, reference, today = grouping(book, MEMBER, snapshot.as_of), book.reference, snapshot.as_of.toordinal()
    assert isinstance(group, Pairs)

    def of_node(node: int) -> int:
        team, person = group.split(node)
        return person if person != NONE and team == reference.team_of(person, today) else NONE

    return of_node
