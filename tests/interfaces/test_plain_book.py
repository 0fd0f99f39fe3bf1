"""The book that core tests build from tables is the one that the package reader and the database give."""

import dataclasses

import numpy as np
import pytest

from tests.support.random_world import random_world
from wise_tally.book.store import books


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(8))
def test_tables_make_the_same_book_by_either_way(seed, tmp_path):
    world = random_world(seed)
    world.quota("team", "t1", "2025-01-01", "2025-12-31", "1000.50").quota("company", "", "2025-01-01", "2025-12-31", 5)
    plain, stored = world.book(), (world.read(tmp_path), books.current())[1]
    assert plain.reference == stored.reference
    for part in ("deals", "revisions", "credits"):
        for field in dataclasses.fields(getattr(plain, part)):
            first, second = (getattr(getattr(book, part), field.name) for book in (plain, stored))
            assert np.array_equal(first, second), (part, field.name)
