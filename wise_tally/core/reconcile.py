"""Two figures side by side: deals in both, only in one, only in the other, and the first reason why."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.lines import Filter, filtered_deals, owner_teams, people_inside
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE

# What may keep a deal out of a figure, in the order in which it is tested.
REASONS = ("not_there", "process", "territory", "whose", "kept", "basis", "status", "period", "category", "definition")


@dataclass(frozen=True)
class Counted:
    """The deals that a figure rests on: what each adds (minor units, or 1 for a rate's base), and what each passes.

    Arrays of shape (deals of the book,). `passes` holds tests in the order of REASONS; a deal that passes all is
    counted. `is_money` tells whether the values are money.
    """

    value: Ints
    passes: tuple[tuple[str, Flags], ...]
    is_money: bool

    @property
    def counts(self) -> Flags:
        """Which deals the figure counts."""
        return np.asarray(np.logical_and.reduce([flags for _, flags in self.passes]))

    def reason(self, deal: int) -> str:
        """The first test that a deal does not pass; empty for a counted one."""
        return next((name for name, flags in self.passes if not flags[deal]), "")


@dataclass(frozen=True)
class Difference:
    """A deal of one figure or both: what it adds to each, and why it is not in the other (or adds something else)."""

    deal: int
    first_value: int
    second_value: int
    reason: str


@dataclass(frozen=True)
class Reconciled:
    """Deals in both figures (those that add something else to each first), only in the first, only in the second."""

    both: tuple[Difference, ...]
    only_first: tuple[Difference, ...]
    only_second: tuple[Difference, ...]

    def by_reason(self, side: str) -> dict[str, int]:
        """Number of deals of a side (`only_first` or `only_second`) by reason."""
        numbers: dict[str, int] = {}
        for item in getattr(self, side):
            numbers[item.reason] = numbers.get(item.reason, 0) + 1
        return dict(sorted(numbers.items(), key=lambda entry: -entry[1]))


def reconcile(first: Counted, second: Counted) -> Reconciled:
    """Every deal that either figure counts, with the reason why it is missing from the other. Source: own definition.

    Of a deal in both that adds something else to each the reason is "value": another amount, probability or share.
    """
    one, other = first.counts, second.counts

    def differences(deals: Ints, reason_of: Callable[[int], str]) -> tuple[Difference, ...]:
        size = np.maximum(np.abs(first.value[deals]), np.abs(second.value[deals]))
        order = deals[np.argsort(-size, kind="stable")]
        return tuple(Difference(int(d), int(first.value[d]), int(second.value[d]), reason_of(int(d))) for d in order)

    def unlike(deal: int) -> str:
        same_kind = first.is_money == second.is_money
        return "value" if same_kind and first.value[deal] != second.value[deal] else ""

    both = differences(np.flatnonzero(one & other), unlike)
    return Reconciled(
        tuple(sorted(both, key=lambda item: item.reason == "")),
        differences(np.flatnonzero(one & ~other), second.reason),
        differences(np.flatnonzero(other & ~one), first.reason),
    )


def spread(snapshot: BookAsOf, size: int, values: np.ndarray) -> np.ndarray:
    """A column of the snapshot on all deals of the book; 0 or False for deals that do not stand."""
    of_deals = np.zeros(size, dtype=values.dtype)
    of_deals[snapshot.deal] = values
    return of_deals


def scope_tests(book: Book, snapshot: BookAsOf, scope: Filter) -> tuple[tuple[str, Flags], ...]:
    """The tests of the filter line: whether a deal was there, of the process, the territory, and whose it is.

    A deal is somebody's if owned by or credited to them.
    """
    size = len(book.deals.key)
    there = spread(snapshot, size, np.ones(len(snapshot.deal), dtype=bool))
    everything = np.ones(size, dtype=bool)
    process = everything if scope.process == NONE else book.deals.process == scope.process
    territory = whose = everything
    if scope.territory != NONE:
        below = np.zeros(len(book.reference.territories) + 1, dtype=bool)
        below[list(book.reference.territory_tree(snapshot.as_of).below(scope.territory))] = True
        territory = spread(snapshot, size, below[snapshot.territory])
    if scope.of_people:
        team = owner_teams(book, snapshot)
        inside = people_inside(book.reference, scope, snapshot.as_of, snapshot.owner, team)
        whose = spread(snapshot, size, inside)
    inside = spread(snapshot, size, filtered_deals(book, snapshot, Filter(only=scope.only)))
    return (("not_there", there), ("process", process), ("territory", territory), ("whose", whose), ("kept", inside))
