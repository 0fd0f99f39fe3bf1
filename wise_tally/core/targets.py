"""Quotas and pace of nodes: rows cut to a period, set values beside the sums of their parts."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import cast

import numpy as np

from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.ground import Ground
from wise_tally.core.money import Ints, divide_half_even_array
from wise_tally.core.trees import NONE

PLAIN = ("", "", "", "")


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
    """Targets of every node for one period, cut off after one day."""

    company: Target
    team: dict[int, Target]
    person: dict[int, Target]
    territory: dict[int, Target]
    partner: dict[int, Target] = field(default_factory=dict)

    def of(self, by: str, node: int) -> Target:
        """The target of a node; NO_TARGET where the breakdown carries none."""
        if by == "company":
            return self.company
        table = {"team": self.team, "person": self.person, "territory": self.territory, "partner": self.partner}
        return table.get(by, {}).get(node, NO_TARGET)


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

    def in_force(self, cut: int) -> Ints:
        """Of each span the last version set before `cut`, else the first."""
        if len(self.first) == 0:
            return self.first
        earlier = np.add.reduceat((self.set_at < cut).astype(np.int64), self.first)
        return self.first + np.maximum(earlier - 1, 0)


def quota_table(ground: Ground, metric: str, filters: tuple[str, str, str, str]) -> QuotaTable:
    """The table of a metric and filter, made once for a ground."""
    key = (metric, filters)
    if key not in ground.memo:
        ground.memo[key] = _quota_table(ground, metric, filters)
    return cast(QuotaTable, ground.memo[key])


def _quota_table(ground: Ground, metric: str, filters: tuple[str, str, str, str]) -> QuotaTable:
    rows = [quota for quota in ground.quotas if quota.metric == metric and quota.filters == filters]
    rows.sort(key=lambda q: (q.subject, q.subject_index, q.starts_on, q.ends_on, q.set_at))
    subjects = tuple(sorted({(q.subject, q.subject_index) for q in rows}))
    place = {subject: i for i, subject in enumerate(subjects)}
    spans = [(q.subject, q.subject_index, q.starts_on, q.ends_on) for q in rows]
    first = [i for i, span in enumerate(spans) if i == 0 or span != spans[i - 1]]
    teams = [ground.team_of(q.subject_index, q.starts_on) if q.subject == "person" else NONE for q in rows]
    columns = zip(*((q.starts_on, q.ends_on, q.value, q.set_at) for q in rows), strict=True)
    starts, ends, values, set_at = (
        (np.array(c, dtype=np.int64) for c in columns) if rows else [np.zeros(0, np.int64)] * 4
    )
    subject = np.array([place[q.subject, q.subject_index] for q in rows], dtype=np.int64)
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
    ground: Ground, as_of: date, period: Period, metric: str = "won_amount", filters: tuple[str, str, str, str] = PLAIN
) -> Targets:
    """Quotas of all nodes for `period` as they stood on `as_of`. A quota is the node's own, else its parts' sum."""
    return _targets(ground, as_of, (period, period.ends_on), metric, filters)


def pace(
    ground: Ground, as_of: date, period: Period, metric: str = "won_amount", filters: tuple[str, str, str, str] = PLAIN
) -> Targets:
    """Where the quotas should stand by `as_of`: the same sums with the overlap cut off after that day."""
    return _targets(ground, as_of, (period, min(as_of, period.ends_on)), metric, filters)


def _targets(
    ground: Ground, as_of: date, window: tuple[Period, date], metric: str, filters: tuple[str, str, str, str]
) -> Targets:
    period, last = window
    table = quota_table(ground, metric, filters)
    held = table.in_force(midnight_ending(as_of, ground.time_zone))
    starts, ends = table.starts_on[held], table.ends_on[held]
    first_day = period.starts_on.toordinal()
    # A row of the period that has not begun by `last` counts as 0 so far, not as "no quota".
    kept = np.minimum(ends, period.ends_on.toordinal()) >= np.maximum(starts, first_day)
    held, starts, ends = held[kept], starts[kept], ends[kept]
    overlap = np.maximum(np.minimum(ends, last.toordinal()) - np.maximum(starts, first_day) + 1, 0)
    values = divide_half_even_array(table.value[held] * overlap, ends - starts + 1)
    own: dict[tuple[str, int], int] = defaultdict(int)
    by_team: dict[int, int] = defaultdict(int)
    for place, team, value in zip(
        table.subject[held].tolist(), table.team[held].tolist(), values.tolist(), strict=True
    ):
        subject = table.subjects[place]
        own[subject] += value
        if subject[0] == "person":
            by_team[team] += value
    return _rolled_up(ground, as_of, own, by_team)


def _rolled_up(ground: Ground, as_of: date, own: dict[tuple[str, int], int], by_team: dict[int, int]) -> Targets:
    tree = ground.team_tree(as_of)
    teams: dict[int, Target] = {}
    for node in sorted(range(len(ground.teams)), key=lambda i: -len(tree.paths[i])):
        parts = [teams[child].value for child in tree.children(node)]
        teams[node] = Target(own.get(("team", node)), _sum([*parts, by_team.get(node)]))
    roots = [teams[root].value for root in tree.children(NONE)]
    territory_tree = ground.territory_tree(as_of)
    territories: dict[int, Target] = {}
    for node in sorted(range(len(ground.territories)), key=lambda i: -len(territory_tree.paths[i])):
        parts = [territories[child].value for child in territory_tree.children(node)]
        territories[node] = Target(own.get(("territory", node)), _sum(parts))
    return Targets(
        company=Target(own.get(("company", NONE)), _sum([*roots, by_team.get(NONE)])),
        team=teams,
        person={index: Target(value, None) for (kind, index), value in own.items() if kind == "person"},
        territory=territories,
        partner={index: Target(value, None) for (kind, index), value in own.items() if kind == "partner"},
    )


def _sum(values: Iterable[int | None]) -> int | None:
    known = [value for value in values if value is not None]
    return sum(known) if known else None


def sums_of_parts(own: Sequence[int | None], parents: Sequence[int]) -> list[int | None]:
    """For each node the sum of its parts' values, a part's value being its own, else the sum of its parts'.

    `parents` holds each node's place above, -1 for none; parents stand before their parts. None where no part has one.
    """
    found: list[int | None] = [None] * len(own)
    for place in reversed(range(len(own))):
        value = found[place] if own[place] is None else own[place]
        above = parents[place]
        if above != NONE and value is not None:
            found[above] = (found[above] or 0) + value
    return found
