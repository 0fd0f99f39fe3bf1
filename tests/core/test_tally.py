"""Tallies of every family against plain loops over the rows."""

from collections import defaultdict
from datetime import date, datetime, timedelta
from itertools import pairwise

import pytest

from tests.support.naive import local
from tests.support.random_world import random_reading
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.figures import REPORTED
from wise_tally.core.lines import Filter
from wise_tally.core.tally import Sides, TallyQuery, buckets, counted_deals, tally_values

SEEDS = range(5)


PLAIN = [m for m in REPORTED if m not in ("activities", "leads") and not m.startswith("cash")]


def asked(book, snapshot, period, measure, by="company", scope=None):
    rows = tally_values(book, snapshot, period, scope or Filter(), TallyQuery(measure, by), Sides())
    return {row.key: row.value for row in rows}


@pytest.mark.parametrize("seed", SEEDS)
def test_counts_of_deals_equal_a_loop(seed):
    """Created, their value, won of them, slips in the period, overstaying: by owner and by team, with all above."""
    book, snapshot, period, naive = random_reading(seed)
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
    book, snapshot, period, _ = random_reading(seed)
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
