"""Quotas and pace of nodes: rows cut to a period, set values beside the sums of their parts."""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date

from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.ground import Ground, Quota
from wise_tally.core.money import divide_half_even
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


def versions_in_force(rows: Iterable[Quota], cut: int) -> list[Quota]:
    """Of rows with the same subject, metric, filters and span the last set before `cut`, else the first set."""
    chosen: dict[tuple[object, ...], Quota] = {}
    for row in sorted(rows, key=lambda quota: quota.set_at):
        span = (row.subject, row.subject_index, row.metric, row.filters, row.starts_on, row.ends_on)
        if span not in chosen or row.set_at < cut:
            chosen[span] = row
    return list(chosen.values())


def share_of_row(row: Quota, first_day: int, last_day: int) -> int | None:
    """value × overlapping days ÷ the row's days, half to even; None where no day overlaps."""
    overlap = min(row.ends_on, last_day) - max(row.starts_on, first_day) + 1
    if overlap <= 0:
        return None
    return divide_half_even(row.value * overlap, row.ends_on - row.starts_on + 1)


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
    cut = midnight_ending(as_of, ground.time_zone)
    rows = [quota for quota in ground.quotas if quota.metric == metric and quota.filters == filters]
    own: dict[tuple[str, int], int] = defaultdict(int)
    by_team: dict[int, int] = defaultdict(int)
    for row in versions_in_force(rows, cut):
        # A row of the period that has not begun by `last` counts as 0 so far, not as "no quota".
        whole = share_of_row(row, period.starts_on.toordinal(), period.ends_on.toordinal())
        if whole is None:
            continue
        value = share_of_row(row, period.starts_on.toordinal(), last.toordinal()) or 0
        own[row.subject, row.subject_index] += value
        if row.subject == "person":
            by_team[ground.team_of(row.subject_index, row.starts_on)] += value
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
