"""Tallies of every family and tables of people against plain loops over the rows."""

from collections import defaultdict
from datetime import date, datetime, timedelta
from itertools import pairwise

import numpy as np
import pytest

from tests.core.test_oracle import window
from tests.support.naive import Naive, local
from tests.support.random_world import random_world
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.figures import REPORTED
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
from wise_tally.core.tally import Sides, TallyQuery, buckets, counted_deals, tally_values

SEEDS = range(5)
PLAIN = [m for m in REPORTED if m not in ("activities", "leads") and not m.startswith("cash")]


def world_of(seed):
    """A random world, its book, a period, and the naive reading of the same day."""
    world = random_world(seed, 70)
    start, end, day = window(seed)
    book = world.book()
    return book, book.as_of(day), book.reference.fiscal.parse(f"{start}/{end}"), Naive(world.tables, day)


def asked(book, snapshot, period, measure, by="company", scope=None):
    rows = tally_values(book, snapshot, period, scope or Filter(), TallyQuery(measure, by), Sides())
    return {row.key: row.value for row in rows}


@pytest.mark.parametrize("seed", SEEDS)
def test_counts_of_deals_equal_a_loop(seed):
    """Created, their value, won of them, slips in the period, overstaying: by owner and by team, with all above."""
    book, snapshot, period, naive = world_of(seed)
    inside = lambda on: period.starts_on <= on <= period.ends_on  # noqa: E731 - one line says it
    plain = {name: defaultdict(int) for name in ("created", "created_value", "won", "slips")}
    for key, state in naive.states.items():
        nodes = [("person", state["owner"])]
        team = naive.team(state["owner"], state["closed_on"] or naive.as_of)
        nodes += [("team", node) for node in (naive.above("team", team) or [None])]
        born = local(datetime.fromisoformat(naive.deals[key]["created_at"]))
        rows = [row for row in naive.revisions[key] if row["at"] < naive.cut]
        moved = [
            row
            for before, row in pairwise(rows)
            if naive.stages[before["stage_id"]]["kind"] == naive.stages[row["stage_id"]]["kind"] == "open"
            and before.get("expected_close")
            and row.get("expected_close")
            and row["expected_close"] > before["expected_close"]
            and inside(local(row["at"]))
        ]
        for node in nodes:
            plain["slips"][node] += len(moved)
            if inside(born):
                plain["created"][node] += 1
                plain["created_value"][node] += state["amount"]
                plain["won"][node] += state["kind"] == "won"
    for by in ("person", "team"):
        for name in ("created", "created_value", "slips"):
            found = {(by, key): value for key, value in asked(book, snapshot, period, name, by).items() if value}
            assert found == {node: v for node, v in plain[name].items() if v and node[0] == by}, name
        for key, value in asked(book, snapshot, period, "won_of_created", by).items():
            number = plain["created"][by, key]
            assert value == (plain["won"][by, key] / number if number else None)


@pytest.mark.parametrize("seed", SEEDS)
def test_rows_and_whole_agree_and_refuse_what_they_have_not(seed):
    """Additive measures add up over owners; deals behind a value are as many as it says; a wrong breakdown is refused."""
    book, snapshot, period, _ = world_of(seed)
    for name in ("created", "created_value", "slips", "overstaying", "won", "open", "weighted", "overdue"):
        whole = asked(book, snapshot, period, name)[""]
        assert sum(asked(book, snapshot, period, name, "person").values()) == whole, name
    for name in ("created", "slips", "overstaying"):
        found = counted_deals(book, snapshot, period, Filter(), name)
        assert len(set(found.rows.tolist())) == len(found.rows)
        assert int(found.adds.sum()) == asked(book, snapshot, period, name)[""]
        for by, filters in (("team", book.reference.teams), ("person", book.reference.people)):
            for key, value in asked(book, snapshot, period, name, by).items():
                node = [one.key for one in filters].index(key) if key else -1
                if node >= 0:
                    assert asked(book, snapshot, period, name, scope=Filter(**{by: node}))[""] == value, (by, key)
    for of in ("won", "open"):
        money, number, mean = (
            asked(book, snapshot, period, one, "person") for one in (of, f"deals_{of}", f"mean_{of}")
        )
        assert mean == {key: money[key] / number[key] if number[key] else None for key in money}
    for name in PLAIN:
        by = (REPORTED[name].breakdowns or ("company",))[0]
        assert asked(book, snapshot, period, name, by) is not None
        if REPORTED[name].breakdowns is not None:
            with pytest.raises(UnknownBreakdown):
                asked(book, snapshot, period, name, "deal_type")


def test_buckets_follow_one_another():
    """Parts of a period cover it; the last twelve months end with that of the day."""
    fiscal = FiscalCalendar(4)
    year = fiscal.part(2027, "year", 1)
    for name, number in (("month", 12), ("quarter", 4)):
        found = buckets(fiscal, year, date(2026, 11, 23), name)
        assert (len(found), found[0].starts_on, found[-1].ends_on) == (number, year.starts_on, year.ends_on)
        assert all(a.ends_on + timedelta(days=1) == b.starts_on for a, b in pairwise(found))
    last = buckets(fiscal, year, date(2026, 11, 23), "last_12_months")
    assert (len(last), last[-1].starts_on) == (12, date(2026, 11, 1))


@pytest.mark.parametrize("seed", SEEDS)
def test_people_against_columns_equal_a_loop(seed):
    """Credited parts and deals by stage; people add up to the whole; a deal of two counts once in it."""
    book, snapshot, _, naive = world_of(seed)
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
    book, snapshot, _, naive = world_of(seed)
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
