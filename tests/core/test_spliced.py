"""Columns of a grown book against numpy's own insertions and deletions."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.spliced import FEW, MOST_CHANGED, Spliced, spliced

NUMBERS = st.integers(-5, 5)


def grown(draw, column, came, many):
    """Some rows that go, also of those that `came` before, some that come (as rows of what results), and the plain column that results."""
    of_base = draw(st.sets(st.integers(0, len(column) - 1), max_size=2))
    of_those = draw(st.sets(st.sampled_from(came.tolist()), max_size=2)) if len(came) else set()
    gone = np.array(sorted(of_base | of_those), int)
    rest = np.delete(column, gone)
    rows = np.array(sorted(draw(st.sets(st.integers(0, len(rest) + many - 1), min_size=many, max_size=many))), int)
    values = np.array(draw(st.lists(NUMBERS, min_size=many, max_size=many)), column.dtype)
    plain = np.empty(len(rest) + many, column.dtype)
    plain[rows] = values
    plain[np.setdiff1d(np.arange(len(plain)), rows)] = rest
    return gone, rows, values, plain


@given(st.data())
def test_however_it_grew_a_column_reads_as_if_it_were_put_together(data):
    plain = np.array(data.draw(st.lists(NUMBERS, min_size=3 * FEW, max_size=5 * FEW)), dtype=np.int32)
    column, rows = plain, np.zeros(0, int)
    for _ in range(data.draw(st.integers(1, 5))):
        gone, rows, values, plain = grown(data.draw, plain, rows, data.draw(st.integers(0, 4)))
        column = spliced(column, gone, rows, values)
        assert (len(column), column.dtype) == (len(plain), plain.dtype)
        asked = np.array(data.draw(st.lists(st.integers(0, len(plain) - 1), max_size=len(plain) // FEW)), int)
        before = column.patch
        assert np.array_equal(column[asked], plain[asked])
        assert column[len(plain) - 1] == plain[-1]
        assert np.array_equal(column[1:3], plain[1:3])
        assert column.patch is before, "a few rows are read through"
        if data.draw(st.booleans()):
            assert np.array_equal(np.asarray(column), plain)
    assert np.array_equal(column[-2:], plain[-2:])
    assert np.array_equal(column[np.array([-1, 0])], plain[[-1, 0]])
    assert np.array_equal(column[plain > 0], plain[plain > 0])
    assert np.array_equal((column << 2) + column, (plain << 2) + plain)
    assert (column.min(), np.diff(column).tolist()) == (plain.min(), np.diff(plain).tolist())


@given(st.data())
def test_a_place_is_looked_for_without_putting_the_whole_together(data):
    deals = sorted(data.draw(st.lists(st.integers(0, 9), min_size=2, max_size=30)))
    come = sorted(data.draw(st.lists(st.integers(0, 9), max_size=4)))
    gone = np.array(sorted(data.draw(st.sets(st.integers(0, len(deals) - 1), max_size=3))), int)
    rest = np.delete(np.array(deals), gone)
    at = np.searchsorted(rest, come, side="right")
    column = spliced(np.array(deals), gone, at + np.arange(len(come)), come)
    plain = np.insert(rest, at, come)
    for side in ("left", "right"):
        assert np.array_equal(
            np.searchsorted(column, np.arange(-1, 11), side=side), np.searchsorted(plain, np.arange(-1, 11), side)
        )
    assert not column.patch.is_whole or not (come or len(gone))
    assert np.array_equal(np.asarray(column), plain)


def test_a_column_with_many_changes_is_put_together_and_an_empty_one_too():
    rows = np.arange(MOST_CHANGED + 1)
    none = rows[:0]
    assert isinstance(spliced(rows, none, rows[1:], rows[1:]), Spliced)
    assert isinstance(spliced(rows, none, rows, rows), np.ndarray)
    assert spliced(none, none, rows[:40], rows[:40])[1] == 1
