"""The register of breakdowns: pairs, nodes by identifier, classes of customers at their bounds."""

from datetime import date

import numpy as np
import pytest

from tests.support.small_books import FIRST, book_of, day, reference
from wise_tally.core.breakdowns import (
    Grouping,
    Pairs,
    customer_classes,
    grouping,
    node_named,
    pair,
    parts_of,
)
from wise_tally.core.trees import NONE

DAY = date(2026, 11, 23)
CUSTOMERS = np.array([0, 1, 2, 3, 4, 5])


def test_a_class_is_reached_at_its_begin_by_the_twelve_months_that_end_today():
    """The day a year before is out, today in; a credit note takes away; no sales are the first class, no customer is none."""
    sales = [
        (1, date(2025, 11, 24), 1_000), (2, date(2025, 11, 23), 1_000), (3, DAY, 999), (4, DAY, 6_000), (4, DAY, -1_000),
    ]  # fmt: skip
    invoices = np.array([(of, on.toordinal(), amount) for of, on, amount in sales])
    assert customer_classes(invoices, CUSTOMERS, DAY, np.array([0, 1_000, 5_000])).tolist() == [NONE, 1, 0, 0, 2, 0]
    nothing = np.zeros((0, 3), dtype=np.int64)
    assert customer_classes(nothing, CUSTOMERS[:2], DAY, np.array([0, 1_000])).tolist() == [NONE, 0]


def test_a_pair_and_its_parts_are_one_name_and_one_number():
    first, second = (
        Grouping("source", ("a", "b"), ("A", "B"), None),
        Grouping("stage", ("x", "y", "z"), tuple("XYZ"), None),
    )
    pairs = Pairs(pair("source", "stage"), (), (), None, first, second)
    every = [(one, two) for one in (0, 1, NONE) for two in (0, 1, 2, NONE)]
    assert [pairs.joined(*nodes) for nodes in every] == list(range(pairs.size))
    assert [pairs.split(node) for node in range(pairs.size)] == every
    assert pairs.key_and_name(pairs.joined(1, 2)) == ("z", "Z")
    assert pairs.key_and_name(pairs.joined(1, NONE)) == (None, None)
    assert parts_of(pairs.by) == ("source", "stage")


def test_nodes_are_those_of_the_book_and_found_by_their_identifier():
    book = book_of([[(DAY, FIRST, 100, None)]], reference(people=("ann", "bob"), teams=("north",)))
    people = grouping(book, "person", day("2026-11-23"))
    assert (people.keys, node_named(people, "bob"), node_named(people, "")) == (("ann", "bob"), 1, NONE)
    assert node_named(grouping(book, "company", DAY), "") == 0
    with pytest.raises(LookupError):
        node_named(people, "cid")
