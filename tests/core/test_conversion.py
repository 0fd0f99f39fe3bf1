"""Conversion against plain Python on random workspaces: every cohort, and where its deals stopped."""

from itertools import pairwise

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive
from tests.support.random_world import random_world, window
from wise_tally.core.conversion import ConversionOptions, cohort
from wise_tally.core.drop_off import losses
from wise_tally.core.lines import Filter

SEEDS = range(12)


@pytest.mark.parametrize("seed", SEEDS)
def test_reached_and_value_of_each_stage_equal_plain_python(seed):
    world = random_world(seed)
    start, end, as_of = window(seed)
    rows = ask(world.book(), "conversion", f"{start}/{end}", as_of.isoformat())
    scope = rows.pop("scope")
    expected, totals = Naive(world.tables, as_of).conversion("p", start, end)
    assert [(row["reached"], row["value"]) for row in rows.values()] == expected
    assert {name: getattr(scope, name) for name in totals} == totals


@pytest.mark.parametrize("seed", range(8))
def test_every_cohort_equals_plain_python(seed):
    """Created, entered and decided, reached and strict, all and decided only, by the owner on the day."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    order = naive.order("p")
    shown = [place for place, stage in enumerate(order) if naive.stages[stage].get("retired") != "true"]
    for basis in ("created", "entered", "decided"):
        for strict in (False, True):
            for decided_only in (False, True):
                options = ConversionOptions(basis, strict, decided_only)
                rows = ask(book, "conversion", f"{start}/{end}", as_of.isoformat(), "person", options)
                cohort = list(naive.cohort(order, (start, end), basis, strict))
                if decided_only:
                    cohort = [key for key in cohort if naive.states[key]["kind"] != "open"]
                check_losses(book, naive, [*shown, len(order)], cohort, (start, end, as_of, options))
                for person in "abcd":
                    own = [key for key in cohort if naive.states[key]["owner"] == person]
                    for place in [*shown, len(order)]:
                        stage = order[place] if place < len(order) else "w"
                        inside = [key for key in own if naive.reached(key, order, place, strict)]
                        row = rows[stage, person]
                        assert row["reached"] == len(inside), (options, stage, person)
                        assert row["value"] == sum(naive.states[key]["amount"] for key in inside)


def check_losses(book, naive, places, cohort_keys, asked):
    """Between each shown stage and the next: deals lost, and apart those not decided, of a plain loop."""
    (start, end, as_of, way), order = asked, naive.order("p")
    snapshot, period = book.as_of(as_of), book.reference.fiscal.parse(f"{start}/{end}")
    found = cohort(book, snapshot, period, Filter(process=0), way)
    for row, (place, following) in zip(losses(book, snapshot, found, way), pairwise(places), strict=True):
        here = [key for key in cohort_keys if naive.reached(key, order, place, way.strict)]
        stopped = [key for key in here if not naive.reached(key, order, following, way.strict)]
        kinds = {kind: [key for key in stopped if naive.states[key]["kind"] == kind] for kind in ("lost", "open")}
        amounts = {kind: sum(naive.states[key]["amount"] for key in keys) for kind, keys in kinds.items()}
        assert (row.lost, row.lost_minor) == (len(kinds["lost"]), amounts["lost"])
        assert (row.undecided, row.undecided_minor) == (len(kinds["open"]), amounts["open"])
        decided = sum(naive.states[key]["kind"] != "open" for key in here)
        assert row.share == (len(kinds["lost"]) / decided if decided else None)
