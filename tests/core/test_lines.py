"""A scope kept to one source, type, process or product group: the deals counted, their parts, and the quotas they meet."""

from collections import defaultdict
from dataclasses import replace
from datetime import date

import numpy as np
import pytest

from tests.support.naive import Naive, cents
from tests.support.random_world import random_world, window, world_with_lines
from tests.support.world import World
from wise_tally.core.attainment import attainment
from wise_tally.core.breakdowns import grouping
from wise_tally.core.conversion import ConversionOptions, conversion
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.measures import valued
from wise_tally.core.reconcile import scope_tests
from wise_tally.core.tally import Sides, TallyQuery, tally_values
from wise_tally.core.time_in_stage import days_to_win

SEEDS = range(5)


def kept_to(book, by, key, as_of):
    """The filter that keeps one value; -1 keeps deals without one."""
    keys = grouping(book, by, as_of).keys
    return Filter(only=((by, keys.index(key) if key else -1),))


@pytest.mark.parametrize("seed", SEEDS)
def test_figures_of_one_value_equal_a_loop_over_its_deals(seed):
    """Forecast by person and team, cohorts, days to win and reconciling, for each source and for those without."""
    world = random_world(seed, 60)
    start, end, day = window(seed)
    book = world.book()
    snapshot, period = book.as_of(day), book.reference.fiscal.parse(f"{start}/{end}")
    for source in ("fair", "web", None):
        scope = kept_to(book, "source", source, day)
        naive = Naive(world.tables, day)
        naive.states = {k: s for k, s in naive.states.items() if (naive.deals[k].get("source") or None) == source}
        for by in ("company", "person", "team"):
            plain = naive.forecast(start, end, by)
            for row in forecast(book, snapshot, period, scope, by):
                of = plain[row.key if by != "company" else ""]
                assert (row.won, row.open, row.weighted, row.lost) == tuple(
                    of[n] for n in ("won", "open", "weighted", "lost")
                )
        cohort = conversion(book, snapshot, period, replace(scope, process=0), ConversionOptions())[0].totals
        assert cohort.created == naive.conversion("p", start, end)[1]["created"]
        won = naive.days_to_win(start, end)
        assert days_to_win(book, snapshot, period, scope)[0].deals == sum(len(days) for days in won.values())
        tests = dict(scope_tests(book, snapshot, scope))
        assert {book.deals.key[i] for i in np.flatnonzero(tests["kept"])} == set(naive.states)


@pytest.mark.parametrize("seed", SEEDS)
def test_two_values_at_once_are_both_kept(seed):
    """Source and deal type together; the values of one breakdown add up to the other kept alone."""
    start, end, day = window(seed)
    book = random_world(seed, 60).book()
    snapshot, period = book.as_of(day), book.reference.fiscal.parse(f"{start}/{end}")
    (fair,) = kept_to(book, "source", "fair", day).only
    alone = forecast(book, snapshot, period, Filter(only=(fair,)), "company")[0]
    types = range(-1, len(book.reference.deal_types))
    both = [forecast(book, snapshot, period, Filter(only=(fair, ("deal_type", t))), "company")[0] for t in types]
    for figure in ("won", "open", "weighted", "lost", "undated", "deals_won"):
        assert sum(getattr(row, figure) for row in both) == getattr(alone, figure)


def test_quotas_meet_only_what_they_carry():
    """A source's quota belongs to deals of that source; plain ones and other values do not; two values meet a row of both."""
    world = World()
    world.deal("d1", ("2025-05-02", "w", "70.00", None), source="fair", deal_type="new")
    world.quota("company", "", "2025-04-01", "2025-06-30", "100.00")
    world.quota("company", "", "2025-04-01", "2025-06-30", "40.00", source="fair")
    world.quota("company", "", "2025-04-01", "2025-06-30", "10.00", source="fair", deal_type="new")
    world.quota("person", "a", "2025-04-01", "2025-06-30", "30.00", source="fair")
    world.deal("d2", ("2025-05-03", "w", "5.00", None), source="web", deal_type="new")
    day, book = date(2025, 6, 30), world.book()
    snapshot, period = book.as_of(day), book.reference.fiscal.parse("FY2026-Q1")

    def row(scope, by="company"):
        return attainment(book, snapshot, period, scope, by)[0].forecast

    fair = kept_to(book, "source", "fair", day)
    new = kept_to(book, "deal_type", "new", day)
    assert (row(Filter()).quota, row(Filter()).won) == (10_000, 7_500)
    assert (row(fair).quota, row(fair).won, row(fair).attainment) == (4_000, 7_000, 1.75)
    assert row(fair, "person").quota == 3_000
    assert row(kept_to(book, "source", "web", day)).quota is None
    assert row(Filter(only=(*fair.only, *new.only))).quota == 1_000
    assert row(Filter(only=fair.only, process=0)).quota is None
    assert row(Filter(only=(("source", -1),))).quota is None
    assert row(Filter(only=fair.only)).call is None


@pytest.mark.parametrize("seed", SEEDS)
def test_a_product_group_keeps_its_part_of_each_deal(seed):
    """The groups, and the deals with nothing of a group, add up to the whole, for money and for quantity sold."""
    world = world_with_lines(seed)
    start, end, day = window(seed)
    book = world.book()
    period = book.reference.fiscal.parse(f"{start}/{end}")
    groups = grouping(book, PRODUCT_GROUP, day).keys
    sold = defaultdict(lambda: defaultdict(int))
    of = {row["product_id"]: row.get("product_group") for row in world.tables["products"]}
    for row in world.tables["deal_lines"]:
        sold[row["deal_id"]][of[row["product_id"]]] += cents(row["quantity"])
    naive = Naive(world.tables, day)
    won_keys = [k for k, s in naive.states.items() if s["kind"] == "won" and start <= s["closed_on"] <= end]
    for measure in ("amount", "quantity"):
        snapshot = valued(book, book.as_of(day), measure)
        whole = forecast(book, snapshot, period, Filter(), "company")[0]
        by_group = {row.key: row for row in forecast(book, snapshot, period, Filter(), PRODUCT_GROUP)}
        kept = {
            key: forecast(book, snapshot, period, kept_to(book, PRODUCT_GROUP, key, day), "company")[0]
            for key in groups
        }
        for key, row in kept.items():
            assert (row.won, row.open, row.lost) == (by_group[key].won, by_group[key].open, by_group[key].lost)
            if measure == "quantity":
                assert row.won == sum(sold[deal][key] for deal in won_keys)
        rest = by_group.get(None)
        assert sum(row.won for row in kept.values()) + (rest.won if rest else 0) == whole.won
        people = {
            key: forecast(book, snapshot, period, kept_to(book, PRODUCT_GROUP, key, day), "person") for key in groups
        }
        for key, rows in people.items():
            assert sum(row.won for row in rows) == kept[key].won


def test_a_tally_of_a_kept_scope():
    """Created and won follow the kept value too."""
    world = World()
    for number, source in enumerate(("fair", "fair", "web")):
        world.deal(f"d{number}", (f"2025-05-0{number + 1}", "w", f"{number + 1}0.00", None), source=source)
    day, book = date(2025, 6, 30), world.book()
    snapshot, period = book.as_of(day), book.reference.fiscal.parse("FY2026-Q1")
    scope = kept_to(book, "source", "fair", day)
    for measure, value in (
        ("created", 2),
        ("created_value", 3_000),
        ("won", 3_000),
        ("mean_won", 1_500.0),
        ("win_rate", 1.0),
    ):
        assert tally_values(book, snapshot, period, scope, TallyQuery(measure), Sides())[0].value == value
