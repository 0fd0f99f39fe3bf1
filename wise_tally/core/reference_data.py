"""The reference data of a workspace: stages, people, trees, quotas and calls, with their dated rows.

Indices, not identifiers, link the records: a person is its place in `ReferenceData.people`; -1 is none.
Days are ordinals, moments are seconds since 1970 UTC, probabilities basis points.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wise_tally.core.calendar import FiscalCalendar, midnight_ending
from wise_tally.core.derived import Cache, derived
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE, Tree, parent_on

OPEN, WON, LOST = 0, 1, 2
KINDS = 3
ALWAYS = -(1 << 62)
DAY_BITS = 24
# Trees of so many days are kept: a page that looks back asks for few.
CACHED_DAYS = 64


@dataclass(frozen=True)
class Category:
    """A forecast category; `rank` is unique, the surest first."""

    key: str
    name: str
    rank: int
    counted: bool


@dataclass(frozen=True)
class StageRule:
    """What holds for a stage from `effective_at` on."""

    effective_at: int
    probability_bp: int
    category: int
    typical_days: float | None


@dataclass(frozen=True)
class Stage:
    """A stage of a process; `base` holds only where there are no dated rules."""

    key: str
    name: str
    process: int
    position: int
    kind: int
    own_probability: bool
    retired: bool
    base: StageRule
    rules: tuple[StageRule, ...] = ()

    def rule_at(self, cut: int) -> StageRule:
        """The last rule before the moment `cut`, before the first row the first; empty cells repeat what held before."""
        category, typical_days = self.base.category, self.base.typical_days
        last = self.base
        for index, rule in enumerate(self.rules):
            if index and rule.effective_at >= cut:
                break
            category = rule.category if rule.category != NONE else category
            typical_days = rule.typical_days if rule.typical_days is not None else typical_days
            last = StageRule(rule.effective_at, rule.probability_bp, category, typical_days)
        return last


@dataclass(frozen=True)
class Node:
    """A team or a territory; `parents` are (day from which, parent or -1), sorted by day."""

    key: str
    name: str
    parents: tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Person:
    """Somebody who may own deals; `memberships` are (day from which, team or -1), sorted by day."""

    key: str
    name: str
    memberships: tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Quota:
    """A target of one subject for a span of days, both included.

    `value` is in minor units for money metrics, in hundredths for others. `set_at` tells versions of the
    same span apart. The four filters are empty in a plain row.
    """

    subject: str
    subject_index: int
    metric: str
    starts_on: int
    ends_on: int
    value: int
    filters: tuple[str, str, str, str] = ("", "", "", "")  # product group, deal type, source, activity kind
    set_at: int = ALWAYS


@dataclass(frozen=True)
class Call:
    """What somebody says a subject's period will bring, in minor units."""

    subject: str
    subject_index: int
    starts_on: int
    ends_on: int
    made_at: int
    made_by: int
    amount_minor: int


@dataclass(frozen=True)
class ReferenceData:
    """All small tables of a workspace."""

    organisation: str
    time_zone: str
    fiscal: FiscalCalendar
    categories: tuple[Category, ...]
    processes: tuple[tuple[str, str], ...]
    stages: tuple[Stage, ...]
    teams: tuple[Node, ...]
    territories: tuple[Node, ...]
    people: tuple[Person, ...]
    quotas: tuple[Quota, ...] = ()
    calls: tuple[Call, ...] = ()
    deal_types: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    cache: Cache = field(init=False, default_factory=Cache, repr=False, compare=False)

    @cached_property
    def person_index(self) -> dict[str, int]:
        """Index of each person by identifier."""
        return {person.key: index for index, person in enumerate(self.people)}

    @cached_property
    def person_rank(self) -> Ints:
        """Rank of each person's identifier by code point, shape (people,)."""
        ranks = np.zeros(len(self.people), dtype=np.int64)
        ranks[key_order([person.key for person in self.people])] = np.arange(len(self.people))
        return ranks

    @cached_property
    def stage_kind(self) -> Ints:
        """Kind of each stage, shape (stages,)."""
        return np.array([stage.kind for stage in self.stages], dtype=np.int64)

    @cached_property
    def allows_own_probability(self) -> npt.NDArray[np.bool_]:
        """Whether deals of each stage may have a probability of their own, shape (stages,)."""
        return np.array([stage.own_probability for stage in self.stages], dtype=bool)

    @cached_property
    def surest_first(self) -> tuple[int, ...]:
        """Counted categories, the surest first."""
        counted = [i for i, category in enumerate(self.categories) if category.counted]
        return tuple(sorted(counted, key=lambda i: self.categories[i].rank))

    @cached_property
    def membership_table(self) -> tuple[Ints, Ints]:
        """Sorted (person, day) keys and the team from then on; a person's first row holds always."""
        keys: list[int] = []
        teams: list[int] = []
        for index, person in enumerate(self.people):
            for person_index, (day, team) in enumerate(person.memberships or ((0, NONE),)):
                keys.append((index << DAY_BITS) | (day if person_index else 0))
                teams.append(team)
        return np.array(keys, dtype=np.int64), np.array(teams, dtype=np.int64)

    def teams_of(self, people: Ints, days: Ints) -> Ints:
        """The team of each person on each day, shape as given; -1 without a team."""
        keys, teams = self.membership_table
        return teams[np.searchsorted(keys, (people << DAY_BITS) | days, side="right") - 1]

    def team_of(self, person: int, day: int) -> int:
        """The team of one person on one day."""
        return parent_on(self.people[person].memberships, day)

    @derived(most=CACHED_DAYS)
    def team_tree(self, as_of: date) -> Tree:
        """The team tree of that day."""
        return _tree(self.teams, as_of.toordinal())

    @derived(most=CACHED_DAYS)
    def territory_tree(self, as_of: date) -> Tree:
        """The territory tree of that day."""
        return _tree(self.territories, as_of.toordinal())

    def rules_on(self, as_of: date) -> tuple[StageRule, ...]:
        """The rule of each stage as it stood on `as_of`; an open stage without a category has the least sure counted one."""
        cut = midnight_ending(as_of, self.time_zone)
        least_sure = self.surest_first[-1] if self.surest_first else NONE
        rules = []
        for stage in self.stages:
            rule = stage.rule_at(cut)
            category = rule.category if rule.category != NONE or stage.kind != OPEN else least_sure
            rules.append(StageRule(rule.effective_at, rule.probability_bp, category, rule.typical_days))
        return tuple(rules)

    @cached_property
    def processes_by_key(self) -> tuple[int, ...]:
        """Processes in the order of their identifiers."""
        return tuple(key_order([key for key, _ in self.processes]))

    def open_stages(self, process: int, with_retired: bool = True) -> tuple[int, ...]:
        """Open stages of a process in their present order."""
        stages = [i for i, stage in enumerate(self.stages) if stage.process == process and stage.kind == OPEN]
        shown = [i for i in stages if with_retired or not self.stages[i].retired]
        return tuple(sorted(shown, key=lambda i: (self.stages[i].position, self.stages[i].key)))

    def first_stage(self, process: int) -> str:
        """The identifier of the first open stage in use of a process, the first process for -1; empty where there is none."""
        return "".join(self.stages[stage].key for stage in self.open_stages(max(process, 0), with_retired=False)[:1])

    def won_stage(self, process: int) -> int:
        """The won stage of a process; -1 while it has none."""
        won = (i for i, stage in enumerate(self.stages) if stage.process == process and stage.kind == WON)
        return next(won, NONE)


def _tree(nodes: tuple[Node, ...], day: int) -> Tree:
    return Tree(tuple(parent_on(node.parents, day) for node in nodes))


def key_order(keys: Sequence[str]) -> list[int]:
    """Indices in the order of the identifiers by code point."""
    return sorted(range(len(keys)), key=lambda i: keys[i])
