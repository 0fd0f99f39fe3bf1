"""Columns of a book that grew: read through that of an older book, with the few rows that came and went since.

A change so costs what changed, not what there is. The whole is put together once somebody reads more than a few rows of it.
"""

from typing import Any

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin

from wise_tally.core.money import Ints

NONE = np.zeros(0, dtype=np.int64)
MOST_CHANGED = 256
"""So many rows that came or went are read through; with more the column is put together at once."""
FEW = 16
"""One in so many rows is asked for without putting the column together."""


def spliced(column: Any, gone: Ints, rows: Ints, values: Any) -> Any:
    """A column without its rows `gone`, with `values` in the rows `rows` of what results; both ascending."""
    patch = column.patch if isinstance(column, Spliced) else Patch(column)
    changed = patch.changed(gone, rows, np.asarray(values, dtype=column.dtype))
    return (
        changed.whole
        if len(changed.gone) + len(changed.rows) > MOST_CHANGED or not len(changed.base)
        else Spliced(changed)
    )


def others(taken: Ints, places: Ints) -> Ints:
    """The numbers that stand at these places among all that are not `taken`, which is ascending; all from 0."""
    return places + np.searchsorted(taken - np.arange(len(taken)), places, side="right")


class Patch:
    """What a column is made of: `base` without its rows `gone`, with `values` in `rows` of what results."""

    def __init__(self, base: Any, gone: Ints = NONE, rows: Ints = NONE, values: Any = NONE) -> None:
        self.base, self.gone, self.rows, self.values = base, gone, rows, values
        # The row after the last that came is none that anybody asks for.
        self._came, self._gone_before = np.append(rows, -1), gone - np.arange(len(gone))

    def __len__(self) -> int:
        return len(self.base) - len(self.gone) + len(self.rows)

    @property
    def is_whole(self) -> bool:
        """Whether the base is all there is."""
        return not len(self.gone) and not len(self.rows)

    @property
    def whole(self) -> Any:
        """The array, put together."""
        if self.is_whole:
            return self.base
        rest = np.delete(self.base, self.gone) if len(self.gone) else self.base
        return np.insert(rest, self.rows - np.arange(len(self.rows)), self.values)

    def changed(self, gone: Ints, rows: Ints, values: Any) -> "Patch":
        """The same without the rows `gone` of what results, and with `values` in `rows` of what results then."""
        if self.is_whole:
            return Patch(self.base, gone, rows, values)
        stays = ~np.isin(self.rows, gone)
        of_base = gone[~np.isin(gone, self.rows)]
        old = self.rows[stays]
        all_rows = np.r_[others(rows, old - np.searchsorted(gone, old)), rows]
        order = np.argsort(all_rows)
        all_values = np.r_[self.values[stays], values]
        all_gone = np.union1d(self.gone, others(self.gone, of_base - np.searchsorted(self.rows, of_base)))
        return Patch(self.base, all_gone, all_rows[order], all_values[order])

    def few(self, rows: Ints) -> Any:
        """Some values, shape of `rows`, which are not below 0."""
        nth = self.rows.searchsorted(rows)
        in_base = rows - nth
        if len(self.gone):
            in_base += self._gone_before.searchsorted(in_base, "right")
        values = self.base[np.minimum(in_base, len(self.base) - 1)]
        came = self._came[nth] == rows
        if came.any():
            values[came] = self.values[nth[came]]
        return values


class Spliced(NDArrayOperatorsMixin):
    """An array of one dimension to be read; its patch is replaced at once, so that threads may read it together."""

    def __init__(self, patch: Patch) -> None:
        self.patch, self.dtype = patch, patch.base.dtype

    def __len__(self) -> int:
        return len(self.patch)

    @property
    def whole(self) -> Any:
        """The array itself, put together once; what it was put together from is let go."""
        patch = self.patch
        if not patch.is_whole:
            self.patch = patch = Patch(patch.whole)
        return patch.base

    def __getitem__(self, index: Any) -> Any:
        patch = self.patch
        if not patch.is_whole:
            rows = np.arange(*index.indices(len(patch))) if isinstance(index, slice) else np.asarray(index)
            if rows.dtype.kind in "iu" and rows.size <= len(patch) // FEW and rows.min(initial=0) >= 0:
                return patch.few(rows) if rows.ndim else patch.few(rows[np.newaxis])[0]
        return self.whole[index]

    def searchsorted(self, values: Any, side: Any = "left", sorter: None = None) -> Any:
        """As of an array, which has to be ascending; the whole is not put together."""
        patch = self.patch
        parts = (patch.base, patch.base[patch.gone], patch.values)
        of_base, went, came = (part.searchsorted(values, side) for part in parts)
        return of_base - went + came

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Any:
        return np.array(self.whole, dtype=dtype, copy=copy)

    def __array_ufunc__(self, ufunc: Any, method: str, *given: Any, **named: Any) -> Any:
        return getattr(ufunc, method)(*(one.whole if isinstance(one, Spliced) else one for one in given), **named)

    def __getattr__(self, name: str) -> Any:
        """What else an array has: its methods."""
        if name.startswith("_"):
            raise AttributeError(name)
        return getattr(self.whole, name)
