"""Values derived from a book, from the book as it stood or from reference data, computed once and kept with what they come from.

Each is declared where it is computed, with what becomes of it when its book grows: dropped (unless said otherwise), carried over,
or mended by a function. Nothing else is remembered in the core, so a grown book holds only what says that it still holds.
"""

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import wraps
from inspect import signature
from threading import Lock
from typing import Any, ParamSpec, TypeVar

import numpy as np

from wise_tally.core.money import Ints
from wise_tally.core.spliced import others, spliced

Parameters = ParamSpec("Parameters")
Value = TypeVar("Value")
# A book's values are kept with the book, those of the book as it stood with its snapshot, so a snapshot goes first.
OWNERS = ("snapshot", "book", "reference", "line", "self")


class Grows(Enum):
    """What becomes of a value when its book grows by revisions.

    CARRIED is for values of a book that only its reference data, deals, credits and the attributes decide, and for those of a
    snapshot that hold no rows of the book: they stay while these are the same and no revision came or went before the cut.
    """

    DROPPED = "dropped"
    CARRIED = "carried"


@dataclass(frozen=True)
class Growth:
    """Added revisions by their rows in the grown book, and the rows of the old book that are `gone`: put back, or followed by
    another of the same moment. All are the last ones of their deals.

    `moments`: when what came and what went took effect. `same_base`: reference data, deals, credits and the attributes are
    those of the old one; `same_known`: of deals, those that the old one knew are, and nothing is said of the attributes.
    """

    rows: Ints
    gone: Ints
    moments: Ints
    same_base: bool = True
    same_known: bool = True

    def moved(self, old_rows: Ints) -> Ints:
        """Rows of the grown book that were `old_rows` of the old one, which are still there."""
        return others(self.rows, old_rows - np.searchsorted(self.gone, old_rows))

    def before(self, rows: Ints) -> Ints:
        """Rows of the old book that are now `rows` of the grown one, which were there."""
        return others(self.gone, rows - np.searchsorted(self.rows, rows))

    def spliced(self, column: Any, values: Any) -> Any:
        """A column of the old revisions as one of the grown book's, with `values` for the added ones."""
        return spliced(column, self.gone, self.rows, values)


@dataclass(frozen=True)
class Grown:
    """A book or snapshot before and after the growth."""

    old: Any
    new: Any
    growth: Growth


# From the value, the growth and what else the value was asked with, the value that the grown owner has; None drops it.
Mend = Callable[..., Any]


@dataclass(frozen=True, eq=False)
class Declaration:
    """One derived value: how it is computed, which of its parameters keeps it, what becomes of it, how many are kept."""

    compute: Callable[..., Any]
    owner: int
    grows: Grows | Mend
    most: int | None

    def of(self, *given: Any) -> Any:
        """The value for all parameters of the function, kept or computed now."""
        cache, key = given[self.owner].cache, given[self.owner + 1 :]
        value = cache.find(self, key)
        if value is None:
            value = self.compute(*given)
            cache.keep(self, key, value)
        return value

    def carried(self, value: Any, grown: Grown, key: tuple[Any, ...]) -> Any:
        """The value of the grown owner; None where it has to be computed anew."""
        if isinstance(self.grows, Grows):
            return value if self.grows is Grows.CARRIED and grown.growth.same_base else None
        return self.grows(value, grown, *key)


class Cache:
    """The derived values of one owner, by declaration and by what else they were asked with."""

    def __init__(self) -> None:
        self._values: dict[Declaration, OrderedDict[tuple[Any, ...], Any]] = {}
        self._lock = Lock()

    def items(self) -> list[tuple[Declaration, tuple[Any, ...], Any]]:
        """All values that are kept."""
        with self._lock:
            return [(one, key, value) for one, values in self._values.items() for key, value in values.items()]

    def find(self, declaration: Declaration, key: tuple[Any, ...]) -> Any:
        """The value, now the last used; None where it is not kept."""
        with self._lock:
            values = self._values.get(declaration)
            if values is None or key not in values:
                return None
            if declaration.most is not None:
                values.move_to_end(key)
            return values[key]

    def keep(self, declaration: Declaration, key: tuple[Any, ...], value: Any) -> None:
        """Keep a value; of a declaration with a bound the least used goes."""
        with self._lock:
            values = self._values.setdefault(declaration, OrderedDict())
            values[key] = value
            if declaration.most is not None and len(values) > declaration.most:
                values.popitem(last=False)

    def grow_from(self, old: "Cache", grown: Grown) -> None:
        """Take over what the owner had before its book grew, each value as it was declared."""
        for declaration, key, value in old.items():
            carried = declaration.carried(value, grown, key)
            if carried is not None:
                self.keep(declaration, key, carried)

    def share(self, other: "Cache") -> None:
        """Take over all that another owner keeps, which differs in nothing that its values come from."""
        for declaration, key, value in other.items():
            self.keep(declaration, key, value)


DECLARED: list[Declaration] = []


def derived(
    grows: Grows | Mend = Grows.DROPPED, most: int | None = None
) -> Callable[[Callable[Parameters, Value]], Callable[Parameters, Value]]:
    """Declare a function as a derived value of its parameter `snapshot`, else `book`, `reference`, `line` or `self`, never None.

    It is computed once for each combination of the parameters after that one, which are hashable; of `most` combinations
    the last used are kept. `grows` says what becomes of it when the book grows: see Grows, or a function that mends it.
    """

    def declare(compute: Callable[Parameters, Value]) -> Callable[Parameters, Value]:
        asked_for = signature(compute)
        names = list(asked_for.parameters)
        declaration = Declaration(compute, next(names.index(name) for name in OWNERS if name in names), grows, most)
        DECLARED.append(declaration)

        @wraps(compute)
        def computed(*args: Parameters.args, **kwargs: Parameters.kwargs) -> Value:
            if not kwargs and len(args) == len(names):
                return declaration.of(*args)  # type: ignore[no-any-return]
            bound = asked_for.bind(*args, **kwargs)
            bound.apply_defaults()
            return declaration.of(*bound.arguments.values())  # type: ignore[no-any-return]

        return computed

    return declare
