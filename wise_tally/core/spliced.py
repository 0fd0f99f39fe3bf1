"""Columns of a book that grew: read through that of an older book, with the few rows that came and went since.

A change so costs what changed, not what there is. The whole is put together once somebody reads more than a few rows of it.
"""

from functools import partial
from typing import Any

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin

from wise_tally.core.money import Ints

MOST_CHANGED = 256
"""So many rows that came or went are read through; with more the column is put together at once."""
FEW = 16
"""One in so many rows is asked for without putting the column together."""


def spliced(column: Any, gone: Ints, rows: Ints, values: Any) -> Any:
    """A column without its rows `gone`, with `values` in the rows `rows` of what results; both ascending."""
    changed = column.changed if isinstance(column, Spliced) else partial(Spliced, column)
    found = changed(gone, rows, values)
    return found.whole if len(found.gone) + len(found.rows) > MOST_CHANGED or not len(found.base) else found


def others(taken: Ints, places: Ints) -> Ints:
    """The numbers that stand at these places among all that are not `taken`, which is ascending; all from 0."""
    return places + np.searchsorted(taken - np.arange(len(taken)), places, side="right")


class Spliced(NDArrayOperatorsMixin):
    """An array of one dimension to be read: `base` without its rows `gone`, with `values` in `rows`."""

    def __init__(self, base: Any, gone: Ints, rows: Ints, values: Any) -> None:
        self.base, self.gone, self.rows = base, gone, rows
        self.values = np.asarray(values, dtype=base.dtype)
        self.dtype, self._whole = base.dtype, None
        # The row after the last that came is none that anybody asks for.
        self._came, self._gone_before = np.append(rows, -1), gone - np.arange(len(gone))

    def __len__(self) -> int:
        return len(self.base) - len(self.gone) + len(self.rows)

    @property
    def whole(self) -> Any:
        """The array itself, put together once."""
        if self._whole is None:
            self._whole = _put_together(self.base, self.gone, self.rows, self.values)
        return self._whole

    def changed(self, gone: Ints, rows: Ints, values: Any) -> "Spliced":
        """This column without its rows `gone`, with `values` in `rows`, from the same base where that is all there is."""
        if self._whole is not None:
            return Spliced(self._whole, gone, rows, values)
        stays = ~np.isin(self.rows, gone)
        from_base = gone[~np.isin(gone, self.rows)]
        old = self.rows[stays]
        moved = others(rows, old - np.searchsorted(gone, old))
        all_rows = np.r_[moved, rows]
        order = np.argsort(all_rows)
        all_values = np.r_[self.values[stays], np.asarray(values, dtype=self.dtype)]
        all_gone = np.union1d(self.gone, self._in_base(from_base))
        return Spliced(self.base, all_gone, all_rows[order], all_values[order])

    def _in_base(self, rows: Ints) -> Ints:
        """Rows of the base that rows of this column were; of those that came any."""
        return others(self.gone, rows - np.searchsorted(self.rows, rows))

    def _few(self, rows: Ints) -> Any:
        nth = self.rows.searchsorted(rows)
        in_base = rows - nth
        if len(self.gone):
            in_base += self._gone_before.searchsorted(in_base, "right")
        found = self.base[np.minimum(in_base, len(self.base) - 1)]
        came = self._came[nth] == rows
        if came.any():
            found[came] = self.values[nth[came]]
        return found

    def __getitem__(self, index: Any) -> Any:
        if self._whole is None:
            rows = np.arange(*index.indices(len(self))) if isinstance(index, slice) else np.asarray(index)
            if rows.dtype.kind in "iu" and rows.size <= len(self) // FEW and rows.min(initial=0) >= 0:
                return self._few(rows) if rows.ndim else self._few(rows[np.newaxis])[0]
        return self.whole[index]

    def searchsorted(self, values: Any, side: Any = "left", sorter: None = None) -> Any:
        """As of an array, which has to be ascending; the whole is not put together."""
        of_base, went, came = (one.searchsorted(values, side) for one in (self.base, self.base[self.gone], self.values))
        return of_base - went + came

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Any:
        return np.array(self.whole, dtype=dtype, copy=copy)

    def __array_ufunc__(self, ufunc: Any, method: str, *given: Any, **named: Any) -> Any:
        return getattr(ufunc, method)(*(one.whole if isinstance(one, Spliced) else one for one in given), **named)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.whole, name)


def _put_together(base: Any, gone: Ints, rows: Ints, values: Any) -> Any:
    if len(gone):
        base = np.delete(base, gone)
    places = rows - np.arange(len(rows))
    if len(rows) > MOST_CHANGED:
        return np.insert(base, places, values)
    # Copying slices is several times faster than `np.insert`.
    pieces, done = [], 0
    for place, value in zip(places.tolist(), values, strict=True):
        pieces += [base[done:place], [value]]
        done = place
    return np.concatenate([*pieces, base[done:]], dtype=base.dtype)
