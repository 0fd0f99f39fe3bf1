"""Dated rows of the small tables: what held on a day, against plain Python on random workspaces."""

from dataclasses import replace
from datetime import date, timedelta
from random import Random

import numpy as np
import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_world
from tests.support.small_books import FIRST, IS_WON, SECOND, reference
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.reference_data import ALWAYS, Category, StageRule
from wise_tally.core.trees import NONE

SEEDS = range(5)


def days_of(seed):
    """Days before, within and after all dated rows of a world, among them the very days from which rows hold."""
    random = Random(f"days{seed}")
    return [
        date(2020, 1, 1),
        date(2024, 1, 1),
        *(date(2023, 12, 1) + timedelta(days=random.randrange(900)) for _ in range(9)),
    ]


@pytest.mark.parametrize("seed", SEEDS)
def test_teams_trees_and_rules_of_a_day_equal_plain_python(seed):
    world = random_world(seed, 5)
    found = world.book().reference
    people = [one.key for one in found.people]
    turning = [date.fromisoformat(row["from_on"]) for row in world.tables["memberships"] + world.tables["team_parents"]]
    for on in (*days_of(seed), *turning, *(day - timedelta(days=1) for day in turning)):
        naive = Naive(world.tables, on)
        teams = [found.team_of(place, on.toordinal()) for place in range(len(people))]
        assert [None if team == NONE else found.teams[team].key for team in teams] == [
            naive.team(key, on) for key in people
        ]
        assert found.teams_of(np.arange(len(people)), np.full(len(people), on.toordinal())).tolist() == teams
        for kind, nodes, tree in (
            ("team", found.teams, found.team_tree(on)),
            ("territory", found.territories, found.territory_tree(on)),
        ):
            for place, node in enumerate(nodes):
                assert [nodes[above].key for above in tree.paths[place]] == naive.above(kind, node.key), (
                    on,
                    kind,
                )
        for stage, rule in zip(found.stages, found.rules_on(on), strict=True):
            probability, category = naive._rule(naive.stages[stage.key])
            assert rule.probability_bp == probability * 100
            assert stage.kind or found.categories[rule.category].key == category


def test_stages_of_a_process_in_their_order_and_the_retired_where_asked():
    found = reference()
    assert found.open_stages(0) == found.open_stages(0, with_retired=False) == (0, 1)
    assert (found.open_stages(1), found.won_stage(0), found.won_stage(1)) == ((), IS_WON, NONE)
    first, *others = found.stages
    found = replace(found, stages=(replace(first, position=9, retired=True), *others))
    assert (found.open_stages(0), found.open_stages(0, with_retired=False)) == ((1, FIRST), (1,))


def test_a_later_rule_leaves_as_it_was_what_it_does_not_say():
    """From the midnight on which it is set; the first holds for ever before; a stage of no category has the least sure that counts."""
    on = date(2026, 5, 10)
    turn, again = (midnight_ending(day, "UTC") for day in (on, on + timedelta(days=5)))
    ground = reference(typical_days=(10.0, None))
    sure, unsure, left_out = (
        Category(key, key, rank, counted) for key, rank, counted in (("a", 1, True), ("b", 2, True), ("x", 3, False))
    )
    first, second, *closed = ground.stages
    rules = (
        StageRule(ALWAYS + 7, 5_000, 0, 10.0),
        StageRule(turn, 6_000, NONE, None),
        StageRule(again, 7_000, 1, 30.0),
    )
    plain = replace(second, base=StageRule(ALWAYS, 5_000, NONE, None))
    ground = replace(ground, categories=(left_out, sure, unsure), stages=(replace(first, rules=rules), plain, *closed))

    def told(day, stage):
        rule = ground.rules_on(day)[stage]
        return rule.probability_bp, rule.category, rule.typical_days

    assert told(date(2000, 1, 1), FIRST) == told(on, FIRST) == (5_000, 0, 10.0)
    assert told(on + timedelta(days=1), FIRST) == told(on + timedelta(days=5), FIRST) == (6_000, 0, 10.0)
    assert told(on + timedelta(days=6), FIRST) == (7_000, 1, 30.0)
    assert told(on, SECOND) == (5_000, 2, None)
    assert ground.rules_on(on + timedelta(days=6))[FIRST].effective_at == again
    none_counts = replace(ground, categories=(left_out,))
    assert none_counts.rules_on(on)[SECOND].category == NONE
