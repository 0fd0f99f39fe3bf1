"""The forecast against plain Python on random workspaces, and its sums in every scope."""

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive
from tests.support.random_world import AS_OF, random_world, window, world_with_lines
from tests.support.small_books import FIRST, book_of, day, reference
from wise_tally.core.breakdowns import MEMBER
from wise_tally.core.forecast import forecast, forecast_of_periods
from wise_tally.core.lines import Filter

SEEDS = range(12)


NAMES = ("won", "lost", "open", "weighted_open", "weighted", "overdue", "overdue_before", "undated")


YEAR = reference().fiscal.parse("FY2026")


@pytest.mark.parametrize("seed", SEEDS)
def test_forecast_equals_plain_python(seed):
    """Every figure of every row, by every breakdown, to the cent."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    for by in ("company", "team", "person", "territory", "process", "deal_type", "source"):
        rows = ask(book, "forecast", f"{start}/{end}", as_of.isoformat(), by=by)
        expected = naive.forecast(start, end, by)
        for key, row in rows.items():
            for name in NAMES:
                assert row[name] == expected[key][name], (by, key, name)
            for category, value in zip(book.reference.categories, row["categories"], strict=True):
                assert value == expected[key]["category:" + category.key], (by, key, category)
            assert row["deals_won"] == expected[key]["deals_won"], (by, key)
            assert row["deals_open"] == expected[key]["deals_open"], (by, key)
        for key, row in expected.items():
            assert key in rows or not any(row.values()), (by, key)


@pytest.mark.parametrize("seed", range(4))
def test_sums_add_up_in_every_scope(seed):
    """People add up to teams, teams with the row of those without to the company, territories too."""
    book = random_world(seed).book()
    start, end, as_of = window(seed)
    for scope in ({}, {"process": "p"}, {"territory": "x"}, {"team": "t1"}, {"person": "c"}):
        answers = {
            by: ask(book, "forecast", f"{start}/{end}", as_of.isoformat(), by=by, **scope)
            for by in ("company", "team", "person", "territory")
        }
        for name in NAMES:
            whole = answers["company"][""][name]
            assert sum(row[name] for row in answers["person"].values()) == whole, (scope, name)
        if not scope:
            check_roots(answers)


def check_roots(answers):
    """Roots plus the row of those without equal the company."""
    for by in ("team", "territory"):
        rows = answers[by]
        tree = {"team": ("t1", "t2"), "territory": ("x", "y")}[by]
        for name in NAMES:
            whole = answers["company"][""][name]
            first, second = (rows[key][name] for key in tree)
            without = rows[None][name] if None in rows else 0
            # The second node stands below the first or beside it, as the tree of the day has it.
            assert whole - without in (first, first + second), (by, name)


def test_periods_side_by_side_are_those_of_each_alone():
    book = world_with_lines(3).book()
    snapshot = book.as_of(AS_OF)
    periods = [book.reference.fiscal.part(2025, "quarter", number) for number in (1, 2, 3, 4)]
    for by in ("company", "team", MEMBER, "product_group"):
        side_by_side = forecast_of_periods(book, snapshot, periods, Filter(), by)
        assert side_by_side == [forecast(book, snapshot, period, Filter(), by) for period in periods]


def test_people_of_a_team_have_a_row_with_nothing_in_it():
    """Of the team that is asked for everybody, of others nobody who holds nothing."""
    ground = reference(people=(("ann", 0), ("bob", 0), ("cid", 1)), teams=("north", "south"))
    book = book_of([[(day("2026-01-10"), FIRST, 500, day("2026-02-01")), 0]], ground)
    rows = forecast(book, book.as_of(day("2026-01-31")), YEAR, Filter(team=0), "person")
    assert [(row.key, row.open) for row in rows] == [("ann", 500), ("bob", 0)]
