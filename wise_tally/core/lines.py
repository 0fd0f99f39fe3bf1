"""Credited lines: whose money a deal is, what the scope keeps, and the node each line belongs to."""

from dataclasses import dataclass, replace
from datetime import date

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Book, Flags, Standing
from wise_tally.core.ground import Ground, key_order
from wise_tally.core.money import WHOLE_BP, Ints, credited_parts
from wise_tally.core.trees import NONE, Tree

BREAKDOWNS = ("company", "team", "person", "territory", "process", "deal_type", "source")
PEOPLE = ("team", "person")


@dataclass(frozen=True)
class Filter:
    """What the scope keeps; indices into the ground, -1 keeps all."""

    process: int = NONE
    team: int = NONE
    person: int = NONE
    territory: int = NONE

    @property
    def of_people(self) -> bool:
        """Whether credited parts, not whole deals, are kept."""
        return self.team != NONE or self.person != NONE


@dataclass(frozen=True)
class Grouping:
    """The nodes of a breakdown; `tree` where nodes stand below one another."""

    by: str
    keys: tuple[str, ...]
    names: tuple[str, ...]
    tree: Tree | None


@dataclass(frozen=True)
class Lines:
    """One line a deal, or one a credited person. `at` points into the standing; `share_bp` is 10 000 for whole deals.

    Lines kept by a filter remember `whole`, the lines before it, and their places there: a deal is divided among
    all its people before anybody is filtered out.
    """

    standing: Standing
    at: Ints
    person: Ints
    share_bp: Ints
    team: Ints | None = None
    whole: "Lines | None" = None
    places: Ints | None = None

    def parts(self, value_minor: Ints, person_rank: Ints) -> Ints:
        """Each line's part of its deal's whole value (shape of the standing), by largest remainder."""
        if self.whole is not None:
            return self.whole.parts(value_minor, person_rank)[self.places]
        parts = value_minor[self.at]
        split = np.flatnonzero(self.share_bp != WHOLE_BP)
        if len(split):
            parts[split] = credited_parts(
                parts[split], self.share_bp[split], self.at[split], person_rank[self.person[split]]
            )
        return parts

    def take(self, keep: Flags) -> "Lines":
        """The lines kept."""
        team = None if self.team is None else self.team[keep]
        places = np.flatnonzero(keep) if self.places is None else self.places[keep]
        return Lines(
            self.standing, self.at[keep], self.person[keep], self.share_bp[keep], team, self.whole or self, places
        )


def grouping(ground: Ground, by: str, as_of: date) -> Grouping:
    """The nodes of breakdown `by`, with the tree of `as_of`."""
    if by == "company":
        return Grouping(by, ("",), (ground.organisation,), None)
    if by in ("team", "territory"):
        nodes = ground.teams if by == "team" else ground.territories
        tree = ground.team_tree(as_of) if by == "team" else ground.territory_tree(as_of)
        return Grouping(by, tuple(n.key for n in nodes), tuple(n.name for n in nodes), tree)
    if by == "person":
        return Grouping(by, tuple(p.key for p in ground.people), tuple(p.name for p in ground.people), None)
    if by == "process":
        return Grouping(
            by, tuple(key for key, _ in ground.processes), tuple(name for _, name in ground.processes), None
        )
    names = ground.deal_types if by == "deal_type" else ground.sources
    return Grouping(by, names, names, None)


def kept_deals(book: Book, standing: Standing, scope: Filter) -> Flags:
    """Which deals of the standing the process and territory filters keep."""
    keep = np.ones(len(standing.deal), dtype=bool)
    if scope.process != NONE:
        keep &= book.deals.process[standing.deal] == scope.process
    if scope.territory != NONE:
        keep &= _inside(book.ground.territory_tree(standing.as_of), scope.territory)[standing.territory]
    return keep


def _inside(tree: Tree, node: int) -> Flags:
    inside = np.zeros(len(tree.parents) + 1, dtype=bool)
    inside[list(tree.below(node))] = True
    return inside


def people_kept(ground: Ground, scope: Filter, as_of: date, person: Ints, team: Ints) -> Flags:
    """Which (person, team) pairs the person and team filters keep."""
    keep = np.ones(len(person), dtype=bool)
    if scope.person != NONE:
        keep &= person == scope.person
    if scope.team != NONE:
        keep &= _inside(ground.team_tree(as_of), scope.team)[team]
    return keep


def owner_kept(book: Book, standing: Standing, scope: Filter) -> Flags:
    """Deals that all filters keep, a person or team filter taking those owned on the as-of day."""
    keep = kept_deals(book, standing, scope)
    if scope.of_people:
        team = book.ground.teams_of(standing.owner, standing.membership_day)
        keep &= people_kept(book.ground, scope, standing.as_of, standing.owner, team)
    return keep


def credited_lines(book: Book, standing: Standing, scope: Filter, by: str) -> Lines:
    """The lines that the scope keeps: credited parts under people rows or filters, else whole deals."""
    by_people = by in PEOPLE or scope.of_people
    lines = _split(book, standing) if by_people else _whole(standing)
    if scope.process != NONE or scope.territory != NONE:
        lines = lines.take(kept_deals(book, standing, scope)[lines.at])
    if by == "team" or scope.team != NONE:
        team = book.ground.teams_of(lines.person, standing.membership_day[lines.at])
        lines = replace(lines, team=team)
    if scope.of_people:
        team = lines.team if lines.team is not None else lines.person
        lines = lines.take(people_kept(book.ground, scope, standing.as_of, lines.person, team))
    return lines


def _whole(standing: Standing) -> Lines:
    count = len(standing.deal)
    return Lines(standing, np.arange(count), standing.owner, np.full(count, WHOLE_BP))


def _split(book: Book, standing: Standing) -> Lines:
    """One line a credited person; a standing may hold several states of one deal, each of which is divided."""
    rows = book.credits.on(standing.as_of.toordinal())
    size = len(book.deals.key)
    parts = np.bincount(book.credits.deal[rows], minlength=size)
    split = parts[standing.deal] > 0
    if not split.any():
        return _whole(standing)
    first = np.cumsum(parts) - parts
    alone, divided = np.flatnonzero(~split), np.flatnonzero(split)
    number = parts[standing.deal[divided]]
    at = np.repeat(divided, number)
    within = np.arange(len(at)) - np.repeat(np.cumsum(number) - number, number)
    credit = rows[first[standing.deal[at]] + within]
    return Lines(
        standing,
        np.r_[alone, at],
        np.r_[standing.owner[alone], book.credits.person[credit]],
        np.r_[np.full(len(alone), WHOLE_BP), book.credits.share_bp[credit]],
    )


def node_of_lines(book: Book, lines: Lines, by: str) -> Ints:
    """The node of breakdown `by` that each line belongs to directly; -1 for none."""
    standing = lines.standing
    if by == "company":
        return np.zeros(len(lines.at), dtype=np.int64)
    if by == "person":
        return lines.person
    if by == "team":
        assert lines.team is not None
        return lines.team
    return deal_attribute(book, standing, by)[lines.at]


def deal_attribute(book: Book, standing: Standing, by: str) -> npt.NDArray[np.integer]:
    """Index of the territory, process, deal type or source of each deal of the standing; -1 for none."""
    if by == "territory":
        return standing.territory
    column = {"process": book.deals.process, "deal_type": book.deals.deal_type, "source": book.deals.source}[by]
    return column[standing.deal]


def owner_groups(book: Book, standing: Standing, person: Ints, at: Ints, by: str) -> npt.NDArray[np.integer]:
    """The node each deal belongs to where its owner (given per line) decides; `at` points into the standing."""
    if by == "company":
        return np.zeros(len(at), dtype=np.int64)
    if by == "person":
        return person
    if by == "team":
        return book.ground.teams_of(person, standing.membership_day[at])
    return deal_attribute(book, standing, by)[at]


def shown_nodes(ground: Ground, scope: Filter, group: Grouping, as_of: date, holding: Flags) -> list[int]:
    """Nodes inside the filter, by identifier; `holding` tells which hold something, the last entry being the null row.

    The null row (index -1) comes last and only where it holds something.
    """
    inside = set(range(len(group.keys)))
    if group.by == "team" and scope.team != NONE:
        inside = set(ground.team_tree(as_of).below(scope.team))
    elif group.by == "territory" and scope.territory != NONE:
        inside = set(ground.territory_tree(as_of).below(scope.territory))
    elif group.by == "process" and scope.process != NONE:
        inside = {scope.process}
    elif group.by == "person" and scope.person != NONE:
        inside = {scope.person}
    elif group.by == "person" and scope.team != NONE:
        below = ground.team_tree(as_of).below(scope.team)
        day = as_of.toordinal()
        inside = {i for i in inside if ground.team_of(i, day) in below or holding[i]}
    nodes = [i for i in key_order(group.keys) if i in inside]
    return [*nodes, NONE] if holding[-1] else nodes


def number_of_deals(at: Ints) -> int:
    """How many deals stand behind lines, each once; `at` are places in the standing."""
    return int(np.count_nonzero(np.bincount(at))) if len(at) else 0
