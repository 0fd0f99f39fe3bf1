"""Lost, why: who lost what, from which stage and in which month, against a loop over the rows."""

from datetime import date

import numpy as np
import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world
from wise_tally.core.lines import Filter
from wise_tally.core.loss_reasons import crossed, lost_by, lost_from, lost_in, months_lost

AS_OF = date(2025, 11, 20)
SCOPE = Filter(process=0)


@pytest.mark.parametrize("seed", range(3))
def test_losses_are_those_of_a_loop_over_the_rows(seed):
    world = random_world(seed + 20, 80)
    book, naive = world.book(), Naive(world.tables, AS_OF)
    snapshot, fiscal = book.as_of(AS_OF), book.reference.fiscal
    period = fiscal.parse("2025-01-01/2025-11-20")
    at = lost_in(book, snapshot, period, SCOPE)
    lost = {
        k
        for k, s in naive.states.items()
        if s["kind"] == "lost" and period.starts_on <= s["closed_on"] <= period.ends_on
    }
    assert {book.deals.key[int(d)] for d in snapshot.deal[at]} == lost
    stages = book.reference.stages
    for place, stage in zip(at, lost_from(book, snapshot, at), strict=True):
        key = book.deals.key[int(snapshot.deal[place])]
        rows = [r for r in naive.revisions[key] if r["at"] < naive.cut]
        stood = [r["stage_id"] for r in rows if naive.stages[r["stage_id"]]["kind"] == "open"]
        if key in naive.short:
            stood = [rows[-1].get("lost_from_stage_id") or "s1"]
        furthest = max(stood, key=lambda s: naive.stages[s]["position"], default=None)
        assert (stages[stage].key if stage >= 0 else None) == furthest
    nobody = np.zeros(0, dtype=np.int64)
    found = lost_by(snapshot, ((at, snapshot.owner[at]), (nobody, nobody)))
    assert (found.whole.deals, found.whole.amount_minor) == (len(lost), sum(naive.states[k]["amount"] for k in lost))
    assert sum(found.share(row) for row in found.rows) == pytest.approx(1) or not lost
    # Month by person: each pair counts the deals of a loop, and only pairs that occur are there.
    pairs = crossed(snapshot, at, months_lost(snapshot, at, period.starts_on), snapshot.owner[at])
    expected: dict[tuple[int, str], list[int]] = {}
    for key in lost:
        state = naive.states[key]
        month = (state["closed_on"].year - 2025) * 12 + state["closed_on"].month - 1
        expected.setdefault((month, state["owner"]), []).append(state["amount"])
    people = [person.key for person in book.reference.people]
    assert {(month, people[owner]): cell for (month, owner), cell in pairs.items()} == {
        pair: (len(amounts), sum(amounts)) for pair, amounts in expected.items()
    }
