"""Rows of submitted forecasts: each node of the people tree with what was submitted for it, and how that came about."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import quote

from wise_tally.core.calls import calls_in_force, last_due
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.observed_weight import weighted_by_observed
from wise_tally.core.reference_data import Node, Person
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import money, signed_short
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.targets.actions import calling
from wise_tally.domain.targets.models import Call
from wise_tally.pages.forecast.outlook_columns import OutlookColumns
from wise_tally.web.filter_line import FilterLine, in_tree_order
from wise_tally.web.leavers import leavers

# From so many people on a page shows teams; so many names are listed in a sentence.
MOST_PEOPLE, MOST_NAMED = 60, 20


@dataclass(frozen=True)
class CallRow:
    """A node with its figures (minor units), the call that holds, and whether the viewer may call for it."""

    subject: str
    key: str
    depth: int
    row: ForecastRow
    observed_minor: int
    outlook_minor: int | None
    weighed_minor: int | None
    made: Call | None
    is_late: bool
    is_missing: bool
    may_call: bool

    @property
    def token(self) -> str:
        """The node as forms name it."""
        return f"{self.subject}:{self.key}"

    @property
    def node(self) -> str:
        """The node as links to workings name it."""
        return f"{self.subject}:{quote(self.key, safe='')}"

    @property
    def over_quota_minor(self) -> int | None:
        """Called less quota."""
        return None if self.row.call is None or self.row.quota is None else self.row.call - self.row.quota


@dataclass(frozen=True)
class CallEntry:
    """One call of the history with what it changed, in minor units."""

    name: str
    call: Call
    before_minor: int | None
    query: str

    @property
    def shown(self) -> tuple[str, str]:
        """The amount and its change in words."""
        return money(self.call.amount_minor), signed_short(self.change_minor)

    @property
    def change_minor(self) -> int | None:
        """This call less the one before it for the same node."""
        return None if self.before_minor is None else self.call.amount_minor - self.before_minor


def call_rows(viewer: Viewer, line: FilterLine) -> list[CallRow]:
    """The people tree of the scope with each node's call."""
    reference = line.book.reference
    in_force, gone = _held(line), _gone(line)
    due = last_due(line.as_of, Workspace.current().calls_due_on, line.period)
    rows: list[CallRow] = []
    outlook, may = OutlookColumns.of(line), calling(viewer, reference, line.today)

    def add(by: str, node: int, depth: int, row: ForecastRow, by_observed: int) -> None:
        key = "" if by == "company" else str(row.key)
        made = in_force.get((by, key))
        awaited = by == "person" and row.key not in gone
        late = awaited and due is not None and (made is None or local_day(made.made_at, reference.time_zone) < due)
        allowed = not line.is_past and may(by, key)
        expected = outlook.outlook_of(by, node)
        weighed = outlook.weighed(row, expected)
        rows.append(
            CallRow(by, key, depth, row, by_observed, expected, weighed, made, late, awaited and made is None, allowed)
        )

    figures = {
        by: {row.node: row for row in forecast(line.book, line.snapshot, line.period, line.scope, by, calls=True)}
        for by in ("company", "team", "person")
    }
    by_observed = {by: weighted_by_observed(line.book, line.snapshot, line.period, line.scope, by) for by in figures}
    if line.scope.person != NONE:
        node = line.scope.person
        add("person", node, 0, figures["person"][node], by_observed["person"][node])
        return rows
    depth = 0
    if line.scope.team == NONE:
        add("company", 0, 0, figures["company"][0], by_observed["company"][0])
        depth = 1
    tree, people_of = reference.team_tree(line.as_of), _by_team(line, figures["person"])
    start = len(tree.paths[line.scope.team]) - 1 if line.scope.team != NONE else 0
    for team, level in in_tree_order(tree):
        if team in figures["team"]:
            add("team", team, level - start + depth, figures["team"][team], by_observed["team"][team])
            for person, row in people_of.get(team, ()):
                add("person", person, level - start + depth + 1, row, by_observed["person"][person])
    return rows


def _by_team(line: FilterLine, people: dict[int, ForecastRow]) -> dict[int, list[tuple[int, ForecastRow]]]:
    """Those who have anything to call about, by the team of the day."""
    teams: dict[int, list[tuple[int, ForecastRow]]] = {}
    for person, row in people.items():
        if person != NONE and _counts(row):
            teams.setdefault(line.book.reference.team_of(person, line.as_of.toordinal()), []).append((person, row))
    return teams


def folded(rows: list[CallRow]) -> list[CallRow]:
    """The rows that a page shows: of more than sixty people the teams alone, and of more than sixty teams the upper ones; each
    shows what is below it.
    """
    if sum(row.subject == "person" for row in rows) <= MOST_PEOPLE:
        return rows
    shown = [row for row in rows if row.subject != "person"]
    while len(shown) > MOST_PEOPLE and (deepest := max(row.depth for row in shown)) > 1:
        shown = [row for row in shown if row.depth < deepest]
    return shown


def in_short(names: Sequence[str | None]) -> list[str]:
    """The first names of many, and how many more there are."""
    more = [f"{len(names) - MOST_NAMED} more"] if len(names) > MOST_NAMED else []
    return [*(name or "" for name in names[:MOST_NAMED]), *more]


def _counts(row: ForecastRow) -> bool:
    """Whether a person has anything to call about: a quota, or deals in the period."""
    return bool(row.quota or row.won or row.open or row.undated)


def _gone(line: FilterLine) -> frozenset[str]:
    """People who have left; nobody waits for their calls."""
    return frozenset(leavers(line))


def _made(line: FilterLine) -> list[Call]:
    """All calls of the period that were made by the as-of day, in the order they were made."""
    end = datetime.fromtimestamp(line.snapshot.cut, UTC)
    calls = Call.objects.filter(starts_on=line.period.starts_on, ends_on=line.period.ends_on, made_at__lt=end)
    return list(calls.select_related("made_by").order_by("made_at", "pk"))


def _held(line: FilterLine) -> dict[tuple[str, str], Call]:
    """The call that holds for each node, as the core decides, with its reason from the database."""
    reference = line.book.reference
    rows = {(c.subject, c.subject_key, int(c.made_at.timestamp()), c.made_by.key): c for c in _made(line)}
    nodes: dict[str, Sequence[Person | Node]] = {
        "person": reference.people,
        "team": reference.teams,
        "territory": reference.territories,
    }
    calls: dict[tuple[str, str], Call] = {}
    for (subject, index), call in calls_in_force(reference, line.as_of, line.period).items():
        key = nodes[subject][index].key if subject in nodes else ""
        row = rows.get((subject, key, call.made_at, reference.people[call.made_by].key))
        if row is not None:
            calls[subject, key] = row
    return calls


def call_history(line: FilterLine, rows: list[CallRow]) -> list[CallEntry]:
    """All calls of this period for the nodes shown, the newest first, each beside the one before it."""
    names = {(row.subject, row.key): row.row.name or "" for row in rows}
    before: dict[tuple[str, str], int] = {}
    history, zone = [], line.book.reference.time_zone
    for call in _made(line):
        node = (call.subject, call.subject_key)
        if node in names:
            query = line.query(as_of=local_day(call.made_at, zone).isoformat(), period=line.period.text)
            history.append(
                CallEntry(names[node], call, before.get(node), f"{query}&node={node[0]}:{quote(node[1], safe='')}")
            )
        before[node] = call.amount_minor
    return history[::-1]
