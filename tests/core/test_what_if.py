"""What if: supposing equals doing, on random worlds."""

from datetime import date
from random import Random

import pytest

from tests.support.random_world import random_world
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.what_if import Supposed, WhatIf, supposed

AS_OF = date(2025, 3, 10)
LAST = {"won": "w", "lost": "l"}


@pytest.mark.parametrize("seed", range(6))
def test_what_is_supposed_gives_the_figures_of_a_book_in_which_it_was_done(seed):
    random, world = Random(seed), random_world(seed, 40)
    book = world.book()
    snapshot, period = book.as_of(AS_OF), book.reference.fiscal.parse("2024-06-01/2026-05-31")
    wishes, later = {}, AS_OF.isoformat()
    for at in random.sample(range(len(snapshot.deal)), 12):
        deal = int(snapshot.deal[at])
        key = book.deals.key[deal]
        wish = Supposed(
            random.choice(("", "", "won", "lost")),
            random.choice((None, 123_45)),
            random.choice((None, date(2025, 9, 30).toordinal())),
        )
        wishes[deal] = wish
        if snapshot.kind[at] != 0:
            continue
        rows = [r for r in world.tables["deal_revisions"] if r["deal_id"] == key and r.get("void") != "true"]
        past = [r for r in rows if r["effective_at"][:10] <= later]
        if not past:
            # A short-form deal gets its state as its one revision.
            past = [next(d for d in world.tables["deals"] if d["deal_id"] == key)]
            world.add("deal_revisions", **{k: past[0].get(k) for k in (
                "deal_id", "stage_id", "amount", "owner_id", "expected_close", "territory_id", "category_id")},
                effective_at=past[0]["created_at"])  # fmt: skip
        done = {k: v for k, v in past[-1].items() if k not in ("name", "process_id", "created_at", "closed_at",
                "lost_from_stage_id", "deal_type", "source", "void")}  # fmt: skip
        done |= {"deal_id": key, "effective_at": f"{later}T18:00:00+00:00"}
        done["stage_id"] = LAST.get(wish.outcome, done["stage_id"])
        done["amount"] = "123.45" if wish.amount_minor else done["amount"]
        if wish.expected_close:
            done["expected_close"] = "2025-09-30"
        world.tables["deal_revisions"] = [
            r for r in world.tables["deal_revisions"] if r["deal_id"] != key or r["effective_at"][:10] <= later
        ]
        world.add("deal_revisions", **done)
    found = supposed(book, snapshot, WhatIf(wishes))
    tables = [forecast(book, found, period, Filter(), by) for by in ("company", "person", "team", "source")]
    after = world.book()
    real = after.as_of(AS_OF)
    for by, table in zip(("company", "person", "team", "source"), tables, strict=True):
        assert [
            (r.key, r.won, r.lost, r.open, r.weighted, r.undated) for r in forecast(after, real, period, Filter(), by)
        ] == [(r.key, r.won, r.lost, r.open, r.weighted, r.undated) for r in table]


def test_a_supposed_probability_of_a_stage_leaves_those_of_deals_alone():
    world = random_world(2, 60)
    world.tables["stages"][1]["own_probability"] = "true"
    book = world.book()
    snapshot = book.as_of(AS_OF)
    stage = next(i for i, s in enumerate(book.reference.stages) if s.key == "s2")
    found = supposed(book, snapshot, WhatIf(stages={stage: 1_234}))
    own = book.revisions.probability_bp[snapshot.row] >= 0
    here = snapshot.stage == stage
    assert here.any()
    assert set(found.probability_bp[here & ~own].tolist()) == {1_234}
    assert (found.probability_bp[~here | own] == snapshot.probability_bp[~here | own]).all()
