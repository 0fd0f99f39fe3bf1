"""Trees of teams and territories on one date: ancestors, descendants and roll-up."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from wise_tally.core.errors import TreeLoop
from wise_tally.core.money import Ints

NONE = -1


@dataclass(frozen=True)
class Tree:
    """Nodes 0 to n-1 with their parents on one date; `parents[i]` is -1 for a root."""

    parents: tuple[int, ...]

    @cached_property
    def paths(self) -> tuple[tuple[int, ...], ...]:
        """For each node itself and its ancestors, upwards. Raises TreeLoop."""
        return tuple(self._path(node) for node in range(len(self.parents)))

    def _path(self, node: int) -> tuple[int, ...]:
        path: list[int] = []
        while node != NONE:
            if node in path:
                raise TreeLoop("A tree has a loop: an entry is below itself; each needs a parent above it.")
            path.append(node)
            node = self.parents[node]
        return tuple(path)

    @cached_property
    def ancestors(self) -> Ints:
        """Shape (nodes + 1, depth): self and ancestors, padded with -1; the last row (index -1) is all -1."""
        depth = max((len(path) for path in self.paths), default=1)
        table = np.full((len(self.parents) + 1, depth), NONE, dtype=np.int64)
        for node, path in enumerate(self.paths):
            table[node, : len(path)] = path
        return table

    def children(self, node: int) -> tuple[int, ...]:
        """Direct children of `node`; -1 gives the roots."""
        return self._children.get(node, ())

    @cached_property
    def _children(self) -> dict[int, tuple[int, ...]]:
        children: dict[int, list[int]] = {}
        for node, parent in enumerate(self.parents):
            children.setdefault(parent, []).append(node)
        return {parent: tuple(nodes) for parent, nodes in children.items()}

    @cached_property
    def _below(self) -> dict[int, frozenset[int]]:
        below: dict[int, list[int]] = {}
        for node, path in enumerate(self.paths):
            for above in path:
                below.setdefault(above, []).append(node)
        return {above: frozenset(nodes) for above, nodes in below.items()}

    def below(self, node: int) -> frozenset[int]:
        """`node` and all nodes below it."""
        return self._below.get(node, frozenset())

    def roll_up(self, direct: Ints) -> Ints:
        """Add each node's row to all its ancestors; `direct` has shape (nodes, columns)."""
        total = direct.copy()
        for node in sorted(range(len(self.parents)), key=lambda i: -len(self.paths[i])):
            if self.parents[node] != NONE:
                total[self.parents[node]] += total[node]
        return total


@dataclass(frozen=True)
class Loop:
    """Nodes that are below themselves on a day (ordinal), one above the other."""

    day: int
    nodes: tuple[int, ...]


def loop_on_any_date(parents: Sequence[Sequence[tuple[int, int]]]) -> Loop | None:
    """The first loop on some date, else None.

    `parents[i]` is the history of node i: (day from which, parent or -1), sorted by day; before the
    first row the first holds.
    """
    days = sorted({day for history in parents for day, _ in history})
    for day in days or [0]:
        current = [parent_on(history, day) for history in parents]
        settled: set[int] = set()
        for start in range(len(current)):
            path: list[int] = []
            node = start
            while node != NONE and node not in settled:
                if node in path:
                    return Loop(day, tuple(path[path.index(node) :]))
                path.append(node)
                node = current[node]
            settled.update(path)
    return None


def parent_on(history: Sequence[tuple[int, int]], day: int) -> int:
    """The value of the last row not after `day`; before the first row the first; -1 without rows."""
    value = history[0][1] if history else NONE
    for from_day, row in history:
        if from_day > day:
            break
        value = row
    return value
