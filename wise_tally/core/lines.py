"""Credited lines: whose money a deal is, what the scope keeps, and the node each line belongs to."""

from dataclasses import dataclass, replace
from datetime import date

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.breakdowns import MEMBER, PEOPLE, WITHIN, Grouping, Pairs, deal_attribute, grouping, parts_of
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.derived import Grows, derived
from wise_tally.core.money import WHOLE_BP, Ints, credited_parts, divided_parts
from wise_tally.core.reference_data import ReferenceData, key_order
from wise_tally.core.trees import NONE, Tree


@dataclass(frozen=True)
class Filter:
    """What the scope keeps; indices into the reference data, -1 keeps all.

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
    """One line a deal, or one a credited person. `rows` points into the snapshot; `share_bp` is 10 000 for whole deals.

    Lines kept by a filter remember `whole`, the lines before it, and their places there: a deal is divided among
    all its people before anybody is filtered out. Lines divided among product groups, or among people after
    that, remember the `undivided` ones, of which each is a part by its `weight`.
    """

    snapshot: BookAsOf
    rows: Ints
    person: Ints
    share_bp: Ints
    team: Ints | None = None
    whole: "Lines | None" = None
    places: Ints | None = None
    undivided: "Lines | None" = None
    group: Ints | None = None
    weight: Ints | None = None

    def parts(self, value_minor: Ints, person_rank: Ints) -> Ints:
        """Each line's part of its deal's whole value (shape of the snapshot), by largest remainder."""
        if self.whole is not None:
            return self.whole.parts(value_minor, person_rank)[self.places]
        if self.undivided is not None:
            assert self.places is not None
            assert self.group is not None
            assert self.weight is not None
            values = self.undivided.parts(value_minor, person_rank)[self.places]
            rank = self.group if self.undivided.group is None else person_rank[self.person]
            return divided_parts(values, self.weight, self.places, rank)
        parts = value_minor[self.rows]
        split = np.flatnonzero(self.share_bp != WHOLE_BP)
        if len(split):
            parts[split] = credited_parts(
                parts[split], self.share_bp[split], self.rows[split], person_rank[self.person[split]]
            )
        return parts

    def take(self, keep: Flags) -> "Lines":
        """The lines kept."""
        team = None if self.team is None else self.team[keep]
        group = None if self.group is None else self.group[keep]
        indices = np.flatnonzero(keep) if self.whole is None else self.places[keep]  # type: ignore[index]
        columns = (self.rows[keep], self.person[keep], self.share_bp[keep])
        return Lines(self.snapshot, *columns, team, self.whole or self, indices, group=group)

    def by_product_group(self, book: Book) -> "Lines":
        """Each line divided among the product groups of its deal's lines; a deal without lines stays whole.

        Money is divided by the amounts of the lines, quantities are those of each group.
        """
        table = book.attributes.group_lines()
        weights = table.quantity if self.snapshot.measure == "quantity" else table.amount_minor
        indices, row, share = self._repeated(table.deal, len(book.deals.key))
        group = np.append(table.group, NONE)[row]
        weight = np.append(weights, 1)[row]
        team = None if self.team is None else self.team[indices]
        return Lines(
            self.snapshot, self.rows[indices], self.person[indices], share, team, None, indices, self, group, weight
        )

    def by_credit(self, book: Book) -> "Lines":
        """Each line divided among the people credited with its deal; without credit it stays its owner's."""
        credits = book.credits.on(self.snapshot.as_of.toordinal())
        indices, row, share = self._repeated(book.credits.deal[credits], len(book.deals.key))
        credited = np.append(book.credits.person[credits], NONE)[row]
        person = np.where(row < 0, self.person[indices], credited)
        weight = np.append(book.credits.share_bp[credits], 1)[row]
        group = None if self.group is None else self.group[indices]
        return Lines(self.snapshot, self.rows[indices], person, share, None, None, indices, self, group, weight)

    def _repeated(self, deal: Ints, deals: int) -> tuple[Ints, Ints, Ints]:
        """Each line as often as its deal stands in a table sorted by deal, at least once.

        Places of the lines, the row of the table for each (-1 for none), and their shares: a part is no whole deal, so that
        numbers of deals look for it in other lines of a node.
        """
        times = np.bincount(deal, minlength=deals)
        first = np.cumsum(times) - times
        of_line = self.snapshot.deal[self.rows]
        number = np.maximum(times[of_line], 1)
        indices = np.repeat(np.arange(len(of_line)), number)
        within = np.arange(len(indices)) - np.repeat(np.cumsum(number) - number, number)
        row = np.where(times[of_line][indices] > 0, first[of_line][indices] + within, NONE)
        return indices, row, np.where(np.repeat(number, number) > 1, 0, self.share_bp[indices])


def filtered_deals(book: Book, snapshot: BookAsOf, scope: Filter) -> Flags:
    """Which deals of the snapshot the process and territory filters keep."""
    keep = np.ones(len(snapshot.deal), dtype=bool)
    if scope.process != NONE:
        keep &= book.deals.process[snapshot.deal] == scope.process
    if scope.territory != NONE:
        keep &= _inside(book.reference.territory_tree(snapshot.as_of), scope.territory)[snapshot.territory]
    for by, node in scope.only:
        keep &= _sells(book, node)[snapshot.deal] if by == PRODUCT_GROUP else deal_attribute(book, snapshot, by) == node
    return keep


def _sells(book: Book, group: int) -> Flags:
    """Which deals have a line of a product group, shape (deals,)."""
    table = book.attributes.group_lines()
    sells = np.zeros(len(book.deals.key), dtype=bool)
    sells[table.deal[table.group == group]] = True
    return sells


def _inside(tree: Tree, node: int) -> Flags:
    inside = np.zeros(len(tree.parents) + 1, dtype=bool)
    inside[list(tree.below(node))] = True
    return inside


def people_inside(reference: ReferenceData, scope: Filter, as_of: date, person: Ints, team: Ints) -> Flags:
    """Which (person, team) pairs the person and team filters keep."""
    keep = np.ones(len(person), dtype=bool)
    if scope.person != NONE:
        keep &= person == scope.person
    if scope.team != NONE:
        keep &= _inside(reference.team_tree(as_of), scope.team)[team]
    return keep


@derived(Grows.CARRIED)
def owner_teams(book: Book, snapshot: BookAsOf) -> Ints:
    """The team of each deal's owner on the day that counts for it, shape (deals,)."""
    return book.reference.teams_of(snapshot.owner, snapshot.membership_day)


def owner_filtered(book: Book, snapshot: BookAsOf, scope: Filter) -> Flags:
    """Deals that all filters keep, a person or team filter taking those owned on the as-of day."""
    keep = filtered_deals(book, snapshot, scope)
    if scope.of_people:
        keep &= people_inside(book.reference, scope, snapshot.as_of, snapshot.owner, owner_teams(book, snapshot))
    return keep


def credited_lines(book: Book, snapshot: BookAsOf, scope: Filter, by: str) -> Lines:
    """The lines that the scope keeps: credited parts under people rows or filters, else whole deals.

    By product group each is divided by the amounts of the deal's product lines, largest remainder.
    """
    breakdowns = parts_of(by)
    by_people = bool(set(breakdowns) & set(PEOPLE)) or scope.of_people
    # The outer of two divisions comes first, so that rows within a row add up to it.
    groups_first = PRODUCT_GROUP in breakdowns and breakdowns[0] == PRODUCT_GROUP and by_people and not scope.of_people
    if groups_first:
        lines = _whole(snapshot).by_product_group(book).by_credit(book)
    else:
        lines = Lines(snapshot, *_split(book, snapshot)) if by_people else _whole(snapshot)
    if scope.process != NONE or scope.territory != NONE or scope.only:
        lines = lines.take(filtered_deals(book, snapshot, scope)[lines.rows])
    if ("team" in breakdowns or scope.team != NONE) and lines.team is None:
        team = book.reference.teams_of(lines.person, snapshot.membership_day[lines.rows])
        lines = replace(lines, team=team)
    if scope.of_people:
        team = lines.team if lines.team is not None else lines.person
        lines = lines.take(people_inside(book.reference, scope, snapshot.as_of, lines.person, team))
    sold = dict(scope.only).get(PRODUCT_GROUP)
    if (PRODUCT_GROUP in breakdowns or sold is not None) and not groups_first:
        lines = lines.by_product_group(book)
    if sold is None:
        return lines
    assert lines.group is not None
    return lines.take(lines.group == sold)


def _whole(snapshot: BookAsOf) -> Lines:
    count = len(snapshot.deal)
    return Lines(snapshot, np.arange(count), snapshot.owner, np.full(count, WHOLE_BP))


@derived(Grows.CARRIED)
def _split(book: Book, snapshot: BookAsOf) -> tuple[Ints, Ints, Ints, Ints]:
    """One line a credited person, its deal's row, share and team; of several states of one deal each is divided."""
    rows = book.credits.on(snapshot.as_of.toordinal())
    size = len(book.deals.key)
    parts = np.bincount(book.credits.deal[rows], minlength=size)
    split = parts[snapshot.deal] > 0
    alone, divided = np.flatnonzero(~split), np.flatnonzero(split)
    number = parts[snapshot.deal[divided]]
    first = np.cumsum(parts) - parts
    deal_rows = np.repeat(divided, number)
    within = np.arange(len(deal_rows)) - np.repeat(np.cumsum(number) - number, number)
    credit = rows[first[snapshot.deal[deal_rows]] + within]
    of_deal = np.r_[alone, deal_rows]
    person = np.r_[snapshot.owner[alone], book.credits.person[credit]]
    share = np.r_[np.full(len(alone), WHOLE_BP), book.credits.share_bp[credit]]
    return of_deal, person, share, book.reference.teams_of(person, snapshot.membership_day[of_deal])


def node_of_lines(book: Book, lines: Lines, by: str) -> Ints:
    """The node of breakdown `by` that each line belongs to directly; -1 for none."""
    snapshot = lines.snapshot
    if WITHIN in by:
        pairs = grouping(book, by, snapshot.as_of)
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
        return np.zeros(len(lines.rows), dtype=np.int64)
    if by == "person":
        return lines.person
    if by == "team":
        assert lines.team is not None
        return lines.team
    return deal_attribute(book, snapshot, by)[lines.rows]


def owner_groups(book: Book, snapshot: BookAsOf, person: Ints, rows: Ints, by: str) -> npt.NDArray[np.integer]:
    """The node each deal belongs to where its owner (given per line) decides; `rows` points into the snapshot."""
    if by == "company":
        return np.zeros(len(rows), dtype=np.int64)
    if by == "person":
        return person
    if by == "team":
        return book.reference.teams_of(person, snapshot.membership_day[rows])
    return deal_attribute(book, snapshot, by)[rows]


def owner_rows(book: Book, snapshot: BookAsOf, person: Ints, rows: Ints, by: str) -> tuple[Ints, Ints]:
    """Rows into `rows` and the node of each: as `owner_groups`, but by product group a deal has a row in each of its groups."""
    if by != PRODUCT_GROUP:
        return np.arange(len(rows)), np.asarray(owner_groups(book, snapshot, person, rows, by))
    count = len(rows)
    lines = Lines(snapshot, rows, person, np.full(count, WHOLE_BP)).by_product_group(book)
    assert lines.places is not None
    assert lines.group is not None
    return lines.places, lines.group


def rows_inside(book: Book, snapshot: BookAsOf, person: Ints, deal_rows: Ints, by: str, node: int) -> Ints:
    """Rows into `rows` that belong to a node of `by` or one below it, each once, in their order."""
    rows, of = owner_rows(book, snapshot, person, deal_rows, by)
    group = grouping(book, by, snapshot.as_of)
    table = np.zeros(group.size + 1, dtype=bool)
    table[[node] if group.tree is None or node == NONE else list(group.tree.below(node))] = True
    return np.unique(rows[table[of]])


def shown_nodes(reference: ReferenceData, scope: Filter, group: Grouping, as_of: date, holding: Flags) -> list[int]:
    """Nodes inside the filter, by identifier; `holding`: which of them hold something, the last entry being the null row.

    The null row (index -1) comes last and only where it holds something.
    """
    inside = set(range(len(group.keys)))
    if group.by == "team" and scope.team != NONE:
        inside = set(reference.team_tree(as_of).below(scope.team))
    elif group.by == "territory" and scope.territory != NONE:
        inside = set(reference.territory_tree(as_of).below(scope.territory))
    elif group.by == "process" and scope.process != NONE:
        inside = {scope.process}
    elif group.by == "person" and scope.person != NONE:
        inside = {scope.person}
    elif group.by == "person" and scope.team != NONE:
        below = reference.team_tree(as_of).below(scope.team)
        day = as_of.toordinal()
        inside = {i for i in inside if reference.team_of(i, day) in below or holding[i]}
    nodes = [i for i in key_order(group.keys) if i in inside]
    return [*nodes, NONE] if holding[-1] else nodes


def members_of_day(reference: ReferenceData, scope: Filter, group: Pairs, as_of: date) -> list[int]:
    """Of people within teams those of the scope in the team of the day; none of other pairs."""
    if group.by != MEMBER:
        return []
    people = shown_nodes(reference, scope, group.second, as_of, np.zeros(group.second.size + 1, dtype=bool))
    return [group.joined(reference.team_of(person, as_of.toordinal()), person) for person in people]


def number_of_deals(rows: Ints) -> int:
    """How many deals stand behind lines, each once; `rows` are rows of the snapshot."""
    return int(np.count_nonzero(np.bincount(rows))) if len(rows) else 0


def deals_in(book: Book, snapshot: BookAsOf, scope: Filter) -> Ints:
    """Rows of the deals in which the scope has a part, each once, rising."""
    return np.flatnonzero(np.bincount(credited_lines(book, snapshot, scope, "company").rows))
