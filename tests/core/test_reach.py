"""Stays and how far deals came, against plain Python on random workspaces."""

from datetime import date

import numpy as np
import pytest

from tests.support.naive import Naive, cents
from tests.support.random_world import random_world
from wise_tally.core.reach import NEVER, first_win, reached_days
from wise_tally.core.stays import FOR_EVER
from wise_tally.core.trees import NONE

LAST = date(2099, 1, 1)


@pytest.mark.parametrize("seed", range(5))
def test_the_day_a_stage_was_reached_and_the_first_winning(seed):
    """By the revisions: a stage passed over is reached with the later one; what a winning adds stands apart."""
    world = random_world(seed, 60)
    book, naive = world.book(), Naive(world.tables, LAST)
    order, days, (at, amount) = naive.order("p"), reached_days(book, 0), first_win(book)
    for place, key in enumerate(book.deals.key):
        wins = [row for row in naive.revisions[key] if naive.stages[row["stage_id"]]["kind"] == "won"]
        assert (at[place] == NEVER) == (not wins)
        if wins:
            first = min(wins, key=lambda row: row["at"])
            assert (at[place], amount[place]) == (int(first["at"].timestamp()), cents(first["amount"]))
        naive.states[key] |= {"kind": "open"}
        shown = [naive.first_reached(key, order, index) for index in range(len(order))]
        assert [None if day == NEVER else date.fromordinal(day) for day in days[:, place].tolist()] == shown, key


@pytest.mark.parametrize("seed", range(5))
def test_stays_are_the_times_between_changes_of_stage(seed):
    """Of deals with a history; further revisions in a stage make no new stay."""
    world = random_world(seed, 60)
    book, naive = world.book(), Naive(world.tables, LAST)
    stays, expected = book.stays, []
    for key in book.deals.key:
        rows = [] if key in naive.short else naive.revisions[key]
        begun = [row for n, row in enumerate(rows) if n == 0 or rows[n - 1]["stage_id"] != row["stage_id"]]
        for n, row in enumerate(begun):
            left = int(begun[n + 1]["at"].timestamp()) if n + 1 < len(begun) else FOR_EVER
            expected.append((key, row["stage_id"], int(row["at"].timestamp()), left, row["owner_id"]))
    reference = book.reference
    columns = (stays.deal, stays.stage, stays.entered_at, stays.left_at, stays.owner)
    found = [
        (book.deals.key[deal], reference.stages[stage].key, entered, left, reference.people[owner].key)
        for deal, stage, entered, left, owner in zip(*(np.asarray(one).tolist() for one in columns), strict=True)
    ]
    assert found == expected
    some = np.array([3, 7, 40])
    keys = {book.deals.key[deal] for deal in some}
    assert len(stays.of(some).deal) == sum(row[0] in keys for row in expected)
    assert NONE not in stays.deal
