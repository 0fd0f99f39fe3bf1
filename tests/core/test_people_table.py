"""People against columns against plain loops: each deal once, its parts with those credited."""

from collections import defaultdict
from datetime import date, timedelta

import numpy as np
import pytest

from tests.support.naive import Naive
from tests.support.random_world import random_reading, random_world
from wise_tally.core.lines import Filter
from wise_tally.core.people_table import (
    missed_columns,
    month_columns,
    people_deals,
    people_table,
    stage_columns,
    this_week,
    week_together,
)
from wise_tally.core.reference_data import LOST, OPEN, WON

SEEDS = range(5)


@pytest.mark.parametrize("seed", SEEDS)
def test_people_against_columns_equal_a_loop(seed):
    """Credited parts and deals by stage; people add up to the whole; a deal of two counts once in it."""
    book, snapshot, _, naive = random_reading(seed)
    stages = [stage.key for stage in book.reference.stages]
    plain, deals, all_deals = defaultdict(int), defaultdict(set), defaultdict(set)
    for key, state in naive.states.items():
        if state["kind"] != "open":
            continue
        for person, part in naive.divide(state["amount"], naive.shares(key)).items():
            plain[person, state["stage"]] += part
            deals[person, state["stage"]].add(key)
        all_deals[state["stage"]].add(key)
    column = np.where(snapshot.kind == OPEN, snapshot.stage, -1)
    whole, rows = people_table(book, snapshot, Filter(), column, len(stages))
    for row in rows:
        person = book.reference.people[row.person].key
        for stage, cell in zip(stages, row.cells, strict=True):
            assert (cell.amount_minor, cell.deals) == (plain[person, stage], len(deals[person, stage]))
        at, parts = people_deals(book, snapshot, Filter(), column != -1, row.person)
        assert (len(at), int(parts.sum())) == (row.whole.deals, row.whole.amount_minor)
    assert [cell.deals for cell in whole.cells] == [len(all_deals[stage]) for stage in stages]
    assert whole.whole.amount_minor == sum(row.whole.amount_minor for row in rows)
    column, order = stage_columns(book, snapshot, -1, OPEN)
    by_stage, _ = people_table(book, snapshot, Filter(), column, len(order))
    assert {stages[s]: cell.deals for s, cell in zip(order, by_stage.cells, strict=True) if cell.deals} == {
        stage: len(held) for stage, held in all_deals.items() if held
    }
    assert missed_columns(np.array([0, 1, 3, 9]), np.array([True, True, True, True])).tolist() == [0, 1, 3, 4]


@pytest.mark.parametrize("seed", SEEDS)
def test_months_hold_every_deal_once(seed):
    """Open ones before, in, after the months or without a date; closed ones in the month of their closing alone."""
    book, snapshot, _, naive = random_reading(seed)
    months = [book.reference.fiscal.part(2025, "month", n) for n in range(4, 10)]
    first, last = months[0].starts_on, months[-1].ends_on
    for kind, number in (("open", OPEN), ("won", WON), ("lost", LOST)):
        plain = defaultdict(int)
        for state in naive.states.values():
            day = state["close"] if kind == "open" else state["closed_on"]
            if state["kind"] != kind:
                continue
            within = next((i for i, m in enumerate(months) if day and m.starts_on <= day <= m.ends_on), None)
            if kind != "open":
                plain[within] += within is not None
            elif day is None:
                plain[len(months) + 2] += 1
            else:
                plain[0 if day < first else len(months) + 1 if day > last else within + 1] += 1
        column = month_columns(snapshot, months, number)
        found = {int(c): int(n) for c, n in zip(*np.unique(column[column >= 0], return_counts=True), strict=True)}
        assert found == {c: n for c, n in plain.items() if n}


@pytest.mark.parametrize("seed", SEEDS)
def test_a_week_sets_out_what_stood_the_evening_before(seed):
    """Open counted deals due in the week as of Sunday, against what is won by the day: the naive forecast of both days."""
    world = random_world(seed, 70)
    book = world.book()
    for day in (date(2024, 9, 18), date(2025, 3, 6), date(2025, 8, 29)):
        week = book.reference.fiscal.containing(day, "week")
        evening = week.starts_on - timedelta(days=1)
        then = Naive(world.tables, evening).forecast(week.starts_on, week.ends_on, "person")
        now = Naive(world.tables, day).forecast(week.starts_on, week.ends_on, "person")
        rows = this_week(book, book.as_of(evening), book.as_of(day), week, Filter())
        assert week_together(rows) == (sum(r.set_out_minor for r in rows), sum(r.won_minor for r in rows))
        for row in rows:
            key = book.reference.people[row.person].key
            assert (row.set_out_minor, row.set_out_deals) == (then[key]["open"], then[key]["deals_open"])
            assert (row.won_minor, row.deals_won) == (now[key]["won"], now[key]["deals_won"])
