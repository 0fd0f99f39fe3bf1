"""What deals count for, and rows by the attributes: against sums over the package's own rows."""

from collections import defaultdict
from datetime import date
from random import Random

import numpy as np
import pytest

from tests.support.random_world import random_world
from wise_tally.core.breakdowns import MEMBER, Pairs, grouping, pair
from wise_tally.core.bridge import bridge
from wise_tally.core.buckets import FIGURES
from wise_tally.core.cash import PlanRows, first_dues, first_year_minor
from wise_tally.core.forecast import forecast, forecast_of_periods
from wise_tally.core.lines import Filter
from wise_tally.core.measures import BASES, MEASURES, valued
from wise_tally.core.money import apportion, divided_parts
from wise_tally.core.working import forecast_working

PRODUCTS = (("p1", "Buoys", "40"), ("p2", "Buoys", None), ("p3", "Visits", "7.5"), ("p4", None, "1"))
AS_OF, PERIOD = date(2025, 3, 10), "2025-01-01/2025-06-30"


def world_with_lines(seed):
    """A random workspace whose deals have product lines, payments, partners and own fields."""
    random, world = Random(seed), random_world(seed, 40)
    for key, group, cost in PRODUCTS:
        world.add("products", product_id=key, name=key, product_group=group, unit_price="100", unit_cost=cost)
    world.add("partners", partner_id="pa", name="Pa").add("partners", partner_id="pb", name="Pb")
    world.add("fields", field_id="colour", applies_to="deal", name="Colour", kind="choice", choices="red;blue")
    for deal in world.tables["deals"]:
        deal["partner_id"] = random.choice(("pa", "pb", ""))
        if random.random() < 0.5:
            world.add(
                "field_values", field_id="colour", subject_id=deal["deal_id"], value=random.choice(("red", "blue"))
            )
        for key, _, cost in random.choices(PRODUCTS, k=random.choice((0, 1, 2, 3))):
            row = {"quantity": random.choice(("1", "2.5", "0")), "unit_price": f"{random.randrange(90_000)}.35"}
            discount = random.choice((None, "12.5"))
            world.add("deal_lines", deal_id=deal["deal_id"], product_id=key, unit_cost=cost, discount=discount, **row)
        for _ in range(random.choice((0, 0, 1, 2))):
            every = random.choice((None, "month", "quarter", "year"))
            times = random.choice((None, 3, 30)) if every else None
            due = date(2025, random.randrange(1, 13), random.randrange(1, 29)).isoformat()
            amount = f"{random.randrange(9_000)}.99"
            world.add("payments", deal_id=deal["deal_id"], due_on=due, amount=amount, every=every, times=times)
    return world


@pytest.mark.parametrize("seed", range(4))
def test_rows_of_every_breakdown_and_pair_add_up_and_open_into_themselves(seed):
    book, random = world_with_lines(seed + 10).book(), Random(seed)
    plain, period = book.as_of(AS_OF), book.reference.fiscal.parse(PERIOD)
    names = ("company", "process", "deal_type", "source", "partner", "product_group", "own:colour", "person")
    for measure in MEASURES:
        for basis in BASES:
            snapshot = valued(book, plain, measure, basis)
            whole = forecast(book, snapshot, period, Filter(), "company")[0]
            by, within = random.sample(names[1:], 2)
            outer = {row.node: row for row in forecast(book, snapshot, period, Filter(), by)}
            pairs = grouping(book, pair(by, within), AS_OF)
            assert isinstance(pairs, Pairs)
            inner = forecast(book, snapshot, period, Filter(), pair(by, within))
            for name in FIGURES:
                if measure != "deals":
                    assert sum(getattr(row, name) for row in outer.values()) == getattr(whole, name)
                    parts = defaultdict(int)
                    for row in inner:
                        parts[pairs.split(row.node)[0]] += getattr(row, name)
                    assert {k: v for k, v in parts.items() if v} == {
                        n: getattr(row, name) for n, row in outer.items() if getattr(row, name)
                    }
                row = random.choice(inner)
                opened = forecast_working(book, snapshot, period, Filter(), name, pair(by, within), row.node)
                assert opened.value_minor == getattr(row, name)
                if measure == "deals" and not name.startswith("weighted"):
                    assert getattr(whole, name) % 100 == 0
                    assert opened.value_minor == 100 * len({deal.deal for deal in opened.counted})
    assert whole.won == sum(r.won for r in forecast(book, snapshot, period, Filter(), MEMBER)) or measure == "deals"


def test_periods_side_by_side_are_those_of_each_alone():
    book = world_with_lines(3).book()
    snapshot = book.as_of(AS_OF)
    periods = [book.reference.fiscal.part(2025, "quarter", number) for number in (1, 2, 3, 4)]
    for by in ("company", "team", MEMBER, "product_group"):
        side_by_side = forecast_of_periods(book, snapshot, periods, Filter(), by)
        assert side_by_side == [forecast(book, snapshot, period, Filter(), by) for period in periods]


def test_shares_by_weight_are_those_of_hamilton():
    """Against the exact division of Python integers, which is held against the House of 1792; large sums included."""
    random = Random(7)
    for size in (1, 900, 10**15):
        weights = [[random.randrange(size) for _ in range(random.randrange(1, 5))] for _ in range(30)]
        totals = [random.randrange(-size, size) for _ in weights]
        group = np.repeat(np.arange(30), [len(w) for w in weights])
        rank = np.concatenate([np.arange(len(w)) for w in weights])
        value = np.repeat(totals, [len(w) for w in weights])
        found = divided_parts(value, np.array([w for ws in weights for w in ws]), group, rank)
        expected = [apportion(t, w, [str(i) for i in range(5)]) for t, w in zip(totals, weights, strict=True)]
        assert found.tolist() == [part for parts in expected for part in parts]


def test_the_first_year_ends_before_the_same_day_of_the_next():
    on = date(2024, 2, 29).toordinal()
    rows = PlanRows(*(np.array(c) for c in ([0, 0, 1], [on, on + 365, on], [100, 7, 50], [1, 0, 3], [-1, -1, 2])))
    first = first_dues(rows, 3)
    assert first.tolist() == [on, on, 0]
    # Twelve months from 29 February 2024 end before 28 February 2025; the last monthly due is 29 January.
    assert first_year_minor(rows, first).tolist() == [1200, 100, 0]


@pytest.mark.parametrize("seed", range(3))
def test_the_bridge_of_any_measure_goes_from_forecast_to_forecast(seed):
    book = world_with_lines(seed + 30).book()
    period = book.reference.fiscal.parse(PERIOD)
    team = Filter(team=next(i for i, team in enumerate(book.reference.teams) if team.key == "t1"))
    for measure in MEASURES:
        days = (date(2024, 11, 1), AS_OF)
        before, after = (valued(book, book.as_of(day), measure) for day in days)
        for scope in (Filter(), team):
            for figure in ("weighted", "won", "open", "commit_forecast"):
                first, *causes, last = bridge(book, before, after, period, scope, figure)
                assert sum(cause.amount_minor for cause in causes) == last.amount_minor - first.amount_minor
                for row, snapshot in ((first, before), (last, after)):
                    assert row.amount_minor == getattr(forecast(book, snapshot, period, scope, "company")[0], figure)
