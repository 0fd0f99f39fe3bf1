"""Quotas and pace of nodes: rows cut to a period, set values beside the sums of their parts."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property

import numpy as np

from wise_tally.core.book import Flags
from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.derived import derived
from wise_tally.core.money import Ints, divide_half_even_array, sum_by_group
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE, Tree

PLAIN = ("", "", "", "")
CACHED_TARGETS = 500


@dataclass(frozen=True)
class Target:
    """A node's own value and the sum of its parts', in the metric's unit; None where there is none."""

    own: int | None
    of_parts: int | None

    @property
    def value(self) -> int | None:
        """The own value where set, else the sum of the parts."""
        return self.of_parts if self.own is None else self.own

    @property
    def difference(self) -> int | None:
        """Own − parts; None where either is none."""
        return None if self.own is None or self.of_parts is None else self.own - self.of_parts


def added(targets: Iterable[Target]) -> Target:
    """The target of spans that follow one another, such as a quarter's months; None where no span has one."""
    spans = list(targets)
    return Target(_sum(t.own for t in spans), _sum(t.of_parts for t in spans))


NO_TARGET = Target(None, None)


@dataclass(frozen=True)
class Targets:
    """Targets of every node for one period, cut off after one day; each level is rolled up when it is asked for.

    `own` holds the set values by subject and node; `values` and `teams` those of people with the team they belong to.
    """

    reference: ReferenceData
    as_of: date
    own: dict[tuple[str, int], int]
    values: Ints
    teams: Ints

    @cached_property
    def of_team(self) -> dict[int, int]:
        """The sum of the values of each team's people, -1 for those without a team."""
        return dict(_sums(self.values, self.teams))

    @cached_property
    def company(self) -> Target:
        """The company's; its parts are the root teams and the people without a team."""
        roots = [self.team[root].value for root in self.reference.team_tree(self.as_of).children(NONE)]
        return Target(self.own.get(("company", NONE)), _sum([*roots, self.of_team.get(NONE)]))

    @cached_property
    def of_territories(self) -> Target:
        """The company's with the root territories as its parts."""
        roots = self.reference.territory_tree(self.as_of).children(NONE)
        return Target(self.own.get(("company", NONE)), _sum(self.territory[root].value for root in roots))

    @cached_property
    def team(self) -> dict[int, Target]:
        """Every team's, its parts being the teams below and its people."""
        return self._rolled_up("team", self.reference.team_tree(self.as_of), self.of_team)

    @cached_property
    def territory(self) -> dict[int, Target]:
        """Every territory's."""
        return self._rolled_up("territory", self.reference.territory_tree(self.as_of), {})

    @cached_property
    def person(self) -> dict[int, Target]:
        """Those of people who have one."""
        return self._set("person")

    @cached_property
    def partner(self) -> dict[int, Target]:
        """Those of partners who have one."""
        return self._set("partner")

    def of(self, by: str, node: int) -> Target:
        """The target of a node; NO_TARGET where the breakdown carries none."""
        if by == "company":
            return self.company
        table: dict[int, Target] = getattr(self, by) if by in ("team", "person", "territory", "partner") else {}
        return table.get(node, NO_TARGET)

    def _set(self, subject: str) -> dict[int, Target]:
        return {index: Target(value, None) for (kind, index), value in self.own.items() if kind == subject}

    def _rolled_up(self, subject: str, tree: Tree, direct: dict[int, int]) -> dict[int, Target]:
        by_node: dict[int, Target] = {}
        for node in sorted(range(len(tree.parents)), key=lambda i: -len(tree.paths[i])):
            parts = [by_node[child].value for child in tree.children(node)]
            by_node[node] = Target(self.own.get((subject, node)), _sum([*parts, direct.get(node)]))
        return by_node


@dataclass(frozen=True)
class QuotaTable:
    """Rows of one metric and filter as columns, versions of one span side by side in the order they were set.

    `first` are the places where a span begins; `team` is a person's team on the row's first day, -1 for others.
    """

    subjects: tuple[tuple[str, int], ...]
    subject: Ints
    team: Ints
    starts_on: Ints
    ends_on: Ints
    value: Ints
    set_at: Ints
    first: Ints

    @cached_property
    def of_person(self) -> Flags:
        """Which rows are a person's."""
        people = np.array([subject == "person" for subject, _ in self.subjects], dtype=bool)
        return people[self.subject]

    def in_force(self, cut: int) -> Ints:
        """Of each span the last version set before `cut`, else the first."""
        if len(self.first) == 0:
            return self.first
        earlier = np.add.reduceat((self.set_at < cut).astype(np.int64), self.first)
        return self.first + np.maximum(earlier - 1, 0)


@derived()
def quota_table(reference: ReferenceData, metric: str, filters: tuple[str, str, str, str]) -> QuotaTable:
    """The table of a metric and filter, made once for one state of the reference data."""
    rows = [quota for quota in reference.quotas if quota.metric == metric and quota.filters == filters]
    rows.sort(key=lambda q: (q.subject, q.subject_index, q.starts_on, q.ends_on, q.set_at))
    subjects = tuple(sorted({(q.subject, q.subject_index) for q in rows}))
    index = {subject: i for i, subject in enumerate(subjects)}
    spans = [(q.subject, q.subject_index, q.starts_on, q.ends_on) for q in rows]
    first = [i for i, span in enumerate(spans) if i == 0 or span != spans[i - 1]]
    teams = [reference.team_of(q.subject_index, q.starts_on) if q.subject == "person" else NONE for q in rows]
    columns = zip(*((q.starts_on, q.ends_on, q.value, q.set_at) for q in rows), strict=True)
    starts, ends, values, set_at = (
        (np.array(c, dtype=np.int64) for c in columns) if rows else [np.zeros(0, np.int64)] * 4
    )
    subject = np.array([index[q.subject, q.subject_index] for q in rows], dtype=np.int64)
    return QuotaTable(
        subjects,
        subject,
        np.array(teams, dtype=np.int64),
        starts,
        ends,
        values,
        set_at,
        np.array(first, dtype=np.int64),
    )


def quotas(
    reference: ReferenceData,
    as_of: date,
    period: Period,
    metric: str = "won_amount",
    filters: tuple[str, str, str, str] = PLAIN,
) -> Targets:
    """Quotas of all nodes for `period` as they stood on `as_of`. A quota is the node's own, else its parts' sum."""
    return _targets(reference, as_of, (period, period.ends_on), metric, filters)


def pace(
    reference: ReferenceData,
    as_of: date,
    period: Period,
    metric: str = "won_amount",
    filters: tuple[str, str, str, str] = PLAIN,
) -> Targets:
    """Where the quotas should stand by `as_of`: the same sums with the overlap cut off after that day."""
    return _targets(reference, as_of, (period, min(as_of, period.ends_on)), metric, filters)


@derived(most=CACHED_TARGETS)
def _targets(
    reference: ReferenceData, as_of: date, window: tuple[Period, date], metric: str, filters: tuple[str, str, str, str]
) -> Targets:
    """The targets of a window: a page asks for those of one period many times."""
    period, last = window
    table = quota_table(reference, metric, filters)
    in_force = table.in_force(midnight_ending(as_of, reference.time_zone))
    starts, ends = table.starts_on[in_force], table.ends_on[in_force]
    first_day = period.starts_on.toordinal()
    # A row of the period that has not begun by `last` counts as 0 so far, not as "no quota".
    overlapping = np.minimum(ends, period.ends_on.toordinal()) >= np.maximum(starts, first_day)
    in_force, starts, ends = in_force[overlapping], starts[overlapping], ends[overlapping]
    overlap = np.maximum(np.minimum(ends, last.toordinal()) - np.maximum(starts, first_day) + 1, 0)
    values = divide_half_even_array(table.value[in_force] * overlap, ends - starts + 1)
    own = {table.subjects[index]: value for index, value in _sums(values, table.subject[in_force])}
    of_people = table.of_person[in_force]
    return Targets(reference, as_of, own, values[of_people], table.team[in_force][of_people])


def _sums(values: Ints, group: Ints) -> list[tuple[int, int]]:
    """(group, exact sum) of each group that has a value, -1 being a group too."""
    sums = sum_by_group(values, group + 1, int(group.max(initial=NONE)) + 2)
    there = np.flatnonzero(np.bincount(group + 1))
    return list(zip((there - 1).tolist(), sums[there].tolist(), strict=True))


def _sum(values: Iterable[int | None]) -> int | None:
    known = [value for value in values if value is not None]
    return sum(known) if known else None


def sums_of_parts(own: Sequence[int | None], parents: Sequence[int]) -> list[int | None]:
    """For each node the sum of its parts' values, a part's value being its own, else the sum of its parts'.

    `parents` holds each node's place above, -1 for none; parents stand before their parts. None where no part has one.
    """
    sums: list[int | None] = [None] * len(own)
    for index in reversed(range(len(own))):
        value = sums[index] if own[index] is None else own[index]
        above = parents[index]
        if above != NONE and value is not None:
            sums[above] = (sums[above] or 0) + value
    return sums
