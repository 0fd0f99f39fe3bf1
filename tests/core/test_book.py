"""The book as it stood: each deal's state at the end of a day, against plain Python and at the very midnights."""

from dataclasses import replace
from datetime import date, timedelta

import numpy as np
import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world, window
from tests.support.small_books import FIRST, IS_WON, SECOND, book_of, day, reference
from wise_tally.core.book import Credits, Revisions
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE

KINDS = {"open": OPEN, "won": WON, "lost": LOST}


@pytest.mark.parametrize("seed", range(8))
def test_every_state_of_a_day_equals_plain_python(seed):
    """Stage, amount, dates, owner, category and probability under the rules of that day; only deals that existed."""
    world = random_world(seed, 60)
    book, (start, end, as_of) = world.book(), window(seed)
    reference = book.reference
    names = [one.key for one in reference.categories]
    for on in (start, end, as_of):
        states, found = Naive(world.tables, on).states, book.as_of(on)
        assert {book.deals.key[deal] for deal in found.deal.tolist()} == set(states)
        for place, deal in enumerate(found.deal.tolist()):
            state = states[book.deals.key[deal]]
            territory = None if found.territory[place] == NONE else reference.territories[found.territory[place]].key
            assert (
                reference.stages[found.stage[place]].key,
                found.kind[place],
                found.amount_minor[place],
                found.expected_close[place],
                reference.people[found.owner[place]].key,
                territory,
                found.probability_bp[place],
                found.closed_on[place],
            ) == (
                state["stage"],
                KINDS[state["kind"]],
                state["amount"],
                state["close"].toordinal() if state["close"] else 0,
                state["owner"],
                state["territory"],
                state["probability"] * 100,
                state["closed_on"].toordinal() if state["closed_on"] else 0,
            )
            if state["kind"] == "open":
                assert names[found.category[place]] == state["category"]


def test_what_happens_at_the_midnight_that_ends_a_day_belongs_to_the_next():
    """Ruling 1, in Dublin, where it is an hour before midnight in UTC in summer."""
    book = book_of([[(day("2026-06-01"), FIRST, 100, None), (day("2026-06-11"), SECOND, 200, None)]])
    book = replace(book, reference=replace(reference(), time_zone="Europe/Dublin"))
    # At 0:00 in UTC, which is 1:00 of the same day there: on the 10th nothing of it is known.
    assert [int(book.as_of(day(on)).amount_minor[0]) for on in ("2026-06-10", "2026-06-11")] == [100, 200]
    at = midnight_ending(day("2026-06-10"), "Europe/Dublin")
    for moment, amounts in ((at - 1, [200, 200]), (at, [100, 200])):
        moved = replace(book, revisions=replace(book.revisions, effective_at=np.array([0, moment])))
        assert [int(moved.as_of(day(on)).amount_minor[0]) for on in ("2026-06-10", "2026-06-11")] == amounts


def test_a_deal_is_closed_on_the_day_of_its_last_coming_into_a_closed_stage():
    """Changed after its winning it keeps its day; reopened and won again it has a new one."""
    on = [day("2026-01-05") + timedelta(days=step) for step in range(5)]
    book = book_of(
        [
            [(on[0], FIRST, 1, None), (on[1], IS_WON, 1, None), (on[3], IS_WON, 9, None)],
            [(on[0], FIRST, 1, None), (on[1], IS_WON, 1, None), (on[2], SECOND, 1, None), (on[4], IS_WON, 1, None)],
        ]
    )
    closed = [[date.fromordinal(n) if n else None for n in book.as_of(one).closed_on.tolist()] for one in on]
    assert closed == [[None, None], [on[1], on[1]], [on[1], None], [on[1], None], [on[1], on[4]]]


def test_of_revisions_of_one_moment_only_the_last_was_in_effect():
    one = np.array([0, 0, 0, 1])
    zeros = np.zeros(4, dtype=np.int64)
    rows = Revisions(one, np.array([5, 7, 7, 7]), np.array([0, 1, 2, 0]), *([zeros] * 6))
    assert rows.in_effect().stage.tolist() == [0, 2, 0]


def test_credit_in_force_is_the_last_set_before_the_first_the_first():
    """Deal 0: half each until day 10, then all to person 2; deal 3 has one row alone."""
    rows = Credits(np.array([0, 0, 0, 3]), np.array([4, 4, 10, 50]), np.array([0, 1, 2, 1]), np.full(4, 5_000))
    assert {on: rows.on(on).tolist() for on in (1, 4, 9, 10, 99)} == {
        1: [0, 1, 3], 4: [0, 1, 3], 9: [0, 1, 3], 10: [2, 3], 99: [2, 3],
    }  # fmt: skip
