"""Done activities against activity targets, per company, team and person."""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.breakdowns import Grouping, grouping
from wise_tally.core.buckets import FIGURES
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import NUMBERS, forecast_row
from wise_tally.core.lines import Filter, people_inside, shown_nodes
from wise_tally.core.money import Ints
from wise_tally.core.row_targets import carries_quota
from wise_tally.core.targets import NO_TARGET, PLAIN, pace, quotas
from wise_tally.core.trees import NONE

METRIC = "activities"
# A web visit is the customer's doing, so that it counts only where it is asked for.
KINDS = ("phone", "meeting", "mail", "site_visit", "task", "web_visit")
OWN_DOING = KINDS[:-1]
BY = ("company", "team", "person")
ONE = 100


@dataclass(frozen=True)
class DoneActivities:
    """Activities done by people, counted by person (index), kind (place in KINDS) and local day; shape (rows,)."""

    person: Ints
    kind: Ints
    day: Ints
    number: Ints
    only: str = ""

    def of_kind(self, kind: str) -> "DoneActivities":
        """Those of one kind, which `only` then names; of "" all that people do themselves."""
        wanted = [KINDS.index(kind)] if kind else [KINDS.index(name) for name in OWN_DOING]
        return replace(self.take(np.isin(self.kind, wanted)), only=kind)

    def take(self, keep: np.ndarray) -> "DoneActivities":
        """The rows kept."""
        return DoneActivities(self.person[keep], self.kind[keep], self.day[keep], self.number[keep], self.only)


def activities_inside(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, done: DoneActivities
) -> DoneActivities:
    """Those done in the period, by the as-of day, by people of the scope; a team's are of its members of the day."""
    last = min(period.ends_on, snapshot.as_of).toordinal()
    done = done.take((done.day >= period.starts_on.toordinal()) & (done.day <= last))
    team = book.reference.teams_of(done.person, done.day)
    return done.take(people_inside(book.reference, scope, snapshot.as_of, done.person, team))


def activity_attainment(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, done: DoneActivities
) -> tuple[AttainmentRow, ...]:
    """Activities done against their targets, in hundredths, for rows of BY; nothing of them is open.

    `done` are those of one kind, or all that people do themselves; a target of a kind meets that kind only.
    """
    done = activities_inside(book, snapshot, period, scope, done)
    group = grouping(book, by, snapshot.as_of)
    number = _by_node(book, group, done)
    filters = (*PLAIN[:3], done.only)
    whole, so_far = (read(book.reference, snapshot.as_of, period, METRIC, filters) for read in (quotas, pace))
    # Processes and territories do not concern activities; a target means all that its people do.
    carried = carries_quota(Filter(team=scope.team, person=scope.person), by)
    nothing = [0] * (len(FIGURES) - 1 + len(book.reference.categories) + NUMBERS)
    rows = []
    for node in shown_nodes(book.reference, scope, group, snapshot.as_of, number > 0):
        figures = [int(number[node]) * ONE, *nothing]
        row = forecast_row(node, group, figures, (whole.of(by, node) if carried else NO_TARGET, None))
        rows.append(AttainmentRow(row, so_far.of(by, node) if carried else NO_TARGET))
    return tuple(rows)


def _by_node(book: Book, group: Grouping, done: DoneActivities) -> Ints:
    """How many each node did, rolled up its tree; the last of people without a team."""
    of = _nodes(book, group, done)
    sums = np.bincount(of, done.number, group.size + 1).astype(np.int64)
    if group.tree is not None:
        sums[: group.size] = group.tree.roll_up(sums[: group.size, None])[:, 0]
    return sums


def done_by(book: Book, snapshot: BookAsOf, done: DoneActivities, by: str, node: int) -> DoneActivities:
    """Those of a node of BY and the ones below it; `done` are already those of the scope."""
    group = grouping(book, by, snapshot.as_of)
    inside = np.zeros(group.size + 1, dtype=bool)
    inside[[node] if group.tree is None or node == NONE else list(group.tree.below(node))] = True
    return done.take(inside[_nodes(book, group, done)])


def _nodes(book: Book, group: Grouping, done: DoneActivities) -> Ints:
    """The node of each row; the place after the last for people without a team."""
    if group.by == "company":
        of = np.zeros(len(done.person), dtype=np.int64)
    else:
        of = done.person if group.by == "person" else book.reference.teams_of(done.person, done.day)
    return np.where(of == NONE, group.size, of)
