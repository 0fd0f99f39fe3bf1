"""Derived values: computed once for what they are asked with, and what becomes of them when their owner grows."""

from types import SimpleNamespace

import numpy as np
import pytest

from wise_tally.core.derived import Cache, Grown, Grows, Growth, derived

NOTHING = np.zeros(0, dtype=np.int64)
SAME, CHANGED = (Growth(NOTHING, NOTHING, NOTHING, same_base=same) for same in (True, False))


def owner(**more):
    return SimpleNamespace(cache=Cache(), **more)


def test_a_value_is_computed_once_for_its_parameters_however_they_are_given():
    calls = []

    @derived()
    def doubled(book, number=2, name="n"):
        calls.append((number, name))
        return [number * 2]

    book = owner()
    assert doubled(book, 2, name="n") is doubled(book) is doubled(book=book, number=2)
    assert doubled(book, 3) == [6]
    assert doubled(owner()) == [4]
    assert calls == [(2, "n"), (3, "n"), (2, "n")]


def test_of_a_bounded_value_the_least_used_goes():
    calls = []

    @derived(most=2)
    def own(snapshot, book, key):
        calls.append(key)
        return [key]

    snapshot = owner()
    for key in "abacab":
        own(snapshot, None, key)
    assert calls == ["a", "b", "c", "b"], "kept with the snapshot, of which a was used last before c came"


@pytest.mark.parametrize(("grows", "growth", "expected"), [
    (Grows.DROPPED, SAME, 7), (Grows.CARRIED, SAME, 1), (Grows.CARRIED, CHANGED, 7),
    (lambda value, grown, key: value + grown.new.size + key, CHANGED, 18), (lambda value, grown, key: None, SAME, 7),
])  # fmt: skip
def test_what_becomes_of_a_value_when_its_book_grows(grows, growth, expected):
    @derived(grows)
    def size(book, key):
        return book.size

    old, new = owner(size=1), owner(size=7)
    size(old, 10)
    new.cache.grow_from(old.cache, Grown(old, new, growth))
    assert size(new, 10) == expected


def test_rows_are_found_again_after_a_growth():
    """Of eight rows two went and three came: old rows move, and back."""
    growth = Growth(np.array([1, 4, 8]), np.array([2, 5]), NOTHING)
    stay = np.array([0, 1, 3, 4, 6, 7])
    moved = growth.moved(stay)
    assert moved.tolist() == [0, 2, 3, 5, 6, 7]
    assert growth.before(moved).tolist() == stay.tolist()
    assert list(growth.spliced(np.arange(8), np.array([-1, -2, -3]))) == [0, -1, 1, 3, -2, 4, 6, 7, -3]
