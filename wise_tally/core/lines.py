"""Credited lines: whose money a deal is, what the scope keeps, and the node each line belongs to."""

from dataclasses import dataclass, replace
from datetime import date

import numpy as np
import numpy.typing as npt

from wise_tally.core.beside import PRODUCT_GROUP
from wise_tally.core.book import Book, Flags, Standing
from wise_tally.core.ground import Ground, key_order
from wise_tally.core.grouping import MEMBER, PEOPLE, WITHIN, Grouping, Pairs, grouping, parts_of
from wise_tally.core.money import WHOLE_BP, Ints, credited_parts, divided_parts
from wise_tally.core.trees import NONE, Tree


@dataclass(frozen=True)
class Filter:
    """What the scope keeps; indices into the ground, -1 keeps all.

    `only` keeps the deals of one node each of further breakdowns, such as ("source", 3); of a product group the part
    of each deal that its lines give to it.
    """

    process: int = NONE
    team: int = NONE
    person: int = NONE
    territory: int = NONE
    only: tuple[tuple[str, int], ...] = ()

    @property
    def of_people(self) -> bool:
        """Whether credited parts, not whole deals, are kept."""
        return self.team != NONE or self.person != NONE


@dataclass(frozen=True)
class Lines:
    """One line a deal, or one a credited person. `at` points into the standing; `share_bp` is 10 000 for whole deals.

    Lines kept by a filter remember `whole`, the lines before it, and their places there: a deal is divided among
    all its people before anybody is filtered out. Lines divided among product groups, or among people after
    that, remember the `undivided` ones, of which each is a part by its `weight`.
    """

    standing: Standing
    at: Ints
    person: Ints
    share_bp: Ints
    team: Ints | None = None
    whole: "Lines | None" = None
    places: Ints | None = None
    undivided: "Lines | None" = None
    group: Ints | None = None
    weight: Ints | None = None

    def parts(self, value_minor: Ints, person_rank: Ints) -> Ints:
        """Each line's part of its deal's whole value (shape of the standing), by largest remainder."""
        if self.whole is not None:
            return self.whole.parts(value_minor, person_rank)[self.places]
        if self.undivided is not None:
            assert self.places is not None
            assert self.group is not None
            assert self.weight is not None
            values = self.undivided.parts(value_minor, person_rank)[self.places]
            rank = self.group if self.undivided.group is None else person_rank[self.person]
            return divided_parts(values, self.weight, self.places, rank)
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
        group = None if self.group is None else self.group[keep]
        places = np.flatnonzero(keep) if self.whole is None else self.places[keep]  # type: ignore[index]
        columns = (self.at[keep], self.person[keep], self.share_bp[keep])
        return Lines(self.standing, *columns, team, self.whole or self, places, group=group)

    def by_product_group(self, book: Book) -> "Lines":
        """Each line divided among the product groups of its deal's lines; a deal without lines stays whole.

        Money is divided by the amounts of the lines, quantities are those of each group.
        """
        table = book.beside.group_lines()
        weights = table.quantity if self.standing.measure == "quantity" else table.amount_minor
        places, row, share = self._repeated(table.deal, len(book.deals.key))
        group = np.append(table.group, NONE)[row]
        weight = np.append(weights, 1)[row]
        team = None if self.team is None else self.team[places]
        return Lines(
            self.standing, self.at[places], self.person[places], share, team, None, places, self, group, weight
        )

    def by_credit(self, book: Book) -> "Lines":
        """Each line divided among the people credited with its deal; without credit it stays its owner's."""
        held = book.credits.on(self.standing.as_of.toordinal())
        places, row, share = self._repeated(book.credits.deal[held], len(book.deals.key))
        credited = np.append(book.credits.person[held], NONE)[row]
        person = np.where(row < 0, self.person[places], credited)
        weight = np.append(book.credits.share_bp[held], 1)[row]
        group = None if self.group is None else self.group[places]
        return Lines(self.standing, self.at[places], person, share, None, None, places, self, group, weight)

    def _repeated(self, deal: Ints, deals: int) -> tuple[Ints, Ints, Ints]:
        """Each line as often as its deal stands in a table sorted by deal, at least once.

        Places of the lines, the row of the table for each (-1 for none), and their shares: a part is no whole deal, so that
        numbers of deals look for it in other lines of a node.
        """
        times = np.bincount(deal, minlength=deals)
        first = np.cumsum(times) - times
        of_line = self.standing.deal[self.at]
        number = np.maximum(times[of_line], 1)
        places = np.repeat(np.arange(len(of_line)), number)
        within = np.arange(len(places)) - np.repeat(np.cumsum(number) - number, number)
        row = np.where(times[of_line][places] > 0, first[of_line][places] + within, NONE)
        return places, row, np.where(np.repeat(number, number) > 1, 0, self.share_bp[places])


def kept_deals(book: Book, standing: Standing, scope: Filter) -> Flags:
    """Which deals of the standing the process and territory filters keep."""
    keep = np.ones(len(standing.deal), dtype=bool)
    if scope.process != NONE:
        keep &= book.deals.process[standing.deal] == scope.process
    if scope.territory != NONE:
        keep &= _inside(book.ground.territory_tree(standing.as_of), scope.territory)[standing.territory]
    for by, node in scope.only:
        keep &= _sells(book, node)[standing.deal] if by == PRODUCT_GROUP else deal_attribute(book, standing, by) == node
    return keep


def _sells(book: Book, group: int) -> Flags:
    """Which deals have a line of a product group, shape (deals,)."""
    table = book.beside.group_lines()
    sells = np.zeros(len(book.deals.key), dtype=bool)
    sells[table.deal[table.group == group]] = True
    return sells


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
    """The lines that the scope keeps: credited parts under people rows or filters, else whole deals.

    By product group each is divided by the amounts of the deal's product lines, largest remainder.
    """
    asked = parts_of(by)
    by_people = bool(set(asked) & set(PEOPLE)) or scope.of_people
    # The outer of two divisions comes first, so that rows within a row add up to it.
    groups_first = PRODUCT_GROUP in asked and asked[0] == PRODUCT_GROUP and by_people and not scope.of_people
    if groups_first:
        lines = _whole(standing).by_product_group(book).by_credit(book)
    else:
        lines = _split(book, standing) if by_people else _whole(standing)
    if scope.process != NONE or scope.territory != NONE or scope.only:
        lines = lines.take(kept_deals(book, standing, scope)[lines.at])
    if "team" in asked or scope.team != NONE:
        team = book.ground.teams_of(lines.person, standing.membership_day[lines.at])
        lines = replace(lines, team=team)
    if scope.of_people:
        team = lines.team if lines.team is not None else lines.person
        lines = lines.take(people_kept(book.ground, scope, standing.as_of, lines.person, team))
    sold = dict(scope.only).get(PRODUCT_GROUP)
    if (PRODUCT_GROUP in asked or sold is not None) and not groups_first:
        lines = lines.by_product_group(book)
    if sold is None:
        return lines
    assert lines.group is not None
    return lines.take(lines.group == sold)


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
    if WITHIN in by:
        pairs = grouping(book, by, standing.as_of)
        assert isinstance(pairs, Pairs)
        first, second = (node_of_lines(book, lines, part) for part in by.rsplit(WITHIN, 1))
        first, second = (
            np.where(first == NONE, pairs.first.size, first),
            np.where(second == NONE, pairs.second.size, second),
        )
        return first * (pairs.second.size + 1) + second
    if by == PRODUCT_GROUP:
        assert lines.group is not None
        return lines.group
    if by == "company":
        return np.zeros(len(lines.at), dtype=np.int64)
    if by == "person":
        return lines.person
    if by == "team":
        assert lines.team is not None
        return lines.team
    return deal_attribute(book, standing, by)[lines.at]


def deal_attribute(book: Book, standing: Standing, by: str) -> npt.NDArray[np.integer]:
    """Index of the territory, process, deal type, source or facet of each deal of the standing; -1 for none."""
    if by == "territory":
        return standing.territory
    columns = {"process": book.deals.process, "deal_type": book.deals.deal_type, "source": book.deals.source}
    column = columns[by] if by in columns else book.beside.facet(by).of_deal
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


def owner_rows(book: Book, standing: Standing, person: Ints, at: Ints, by: str) -> tuple[Ints, Ints]:
    """Rows into `at` and the node of each: as `owner_groups`, but by product group a deal has a row in each of its groups."""
    if by != PRODUCT_GROUP:
        return np.arange(len(at)), np.asarray(owner_groups(book, standing, person, at, by))
    count = len(at)
    lines = Lines(standing, at, person, np.full(count, WHOLE_BP)).by_product_group(book)
    assert lines.places is not None
    assert lines.group is not None
    return lines.places, lines.group


def rows_inside(book: Book, standing: Standing, person: Ints, at: Ints, by: str, node: int) -> Ints:
    """Rows into `at` that belong to a node of `by` or one below it, each once, in their order."""
    rows, of = owner_rows(book, standing, person, at, by)
    group = grouping(book, by, standing.as_of)
    table = np.zeros(group.size + 1, dtype=bool)
    table[[node] if group.tree is None or node == NONE else list(group.tree.below(node))] = True
    return np.unique(rows[table[of]])


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


def members_of_day(ground: Ground, scope: Filter, group: Pairs, as_of: date) -> list[int]:
    """Of people within teams those of the scope in the team of the day; none of other pairs."""
    if group.by != MEMBER:
        return []
    people = shown_nodes(ground, scope, group.second, as_of, np.zeros(group.second.size + 1, dtype=bool))
    return [group.joined(ground.team_of(person, as_of.toordinal()), person) for person in people]


def number_of_deals(at: Ints) -> int:
    """How many deals stand behind lines, each once; `at` are places in the standing."""
    return int(np.count_nonzero(np.bincount(at))) if len(at) else 0
