"""Attainment against plain Python on random rows; same days on awkward dates; sums that hold."""

from datetime import date, timedelta
from fractions import Fraction
from random import Random

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive
from tests.support.random_world import random_world
from tests.support.small_books import SECOND, book_of, day, reference
from tests.support.world import World
from wise_tally.core.attainment import (
    DaysOf,
    deals_needed,
    four_quarters_before,
    lost_share,
    mean_won,
    ranks,
    side_by_side,
    so_far,
    won_share,
)
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.measures import valued

SEEDS = range(6)


def test_what_is_still_needed_and_places():
    """Worked by hand: 90 days, 30 passed; ranks as in sport (common practice): 1, 2, 2, 4."""
    fiscal = FiscalCalendar(1)
    days = DaysOf.at(fiscal.part(2025, "quarter", 1), date(2025, 1, 30))
    assert (days.passed, days.remaining) == (30, 60)
    assert days.needed_per_week(60_000) == 7_000
    assert days.needed_per_week(0) is None
    assert days.at_todays_pace(10_000) == 30_000
    over = DaysOf.at(fiscal.part(2025, "quarter", 1), date(2025, 4, 30))
    assert (over.needed_per_week(5), over.at_todays_pace(7)) == (None, 7)
    assert DaysOf.at(fiscal.part(2025, "quarter", 2), date(2025, 3, 1)).at_todays_pace(0) is None
    assert ranks([0.5, 0.9, None, 0.5, 0.1]) == [2, 1, None, 2, 4]


@pytest.mark.parametrize("seed", SEEDS)
def test_deals_needed_and_sums_so_far_equal_plain_python(seed):
    world = random_world(seed, 80)
    book = world.book()
    day = date(2025, 11, 30)
    snapshot, naive = book.as_of(day), Naive(world.tables, day)
    span = book.reference.fiscal.parse("2024-01-01/2025-11-30")
    plain = naive.forecast(span.starts_on, span.ends_on, "person")
    for row in forecast(book, snapshot, span, Filter(), "person"):
        of = plain[row.key]
        lost = sum(
            1
            for key, state in naive.states.items()
            if state["kind"] == "lost" and row.key in naive.shares(key) and state["closed_on"] >= span.starts_on
        )
        assert (row.deals_won, row.deals_lost) == (of["deals_won"], lost)
        number = row.deals_won + lost
        wanted = None
        if number >= 10 and of["won"]:
            exact = Fraction(10_000_000) / Fraction(of["won"], row.deals_won) / Fraction(row.deals_won, number)
            wanted = -(-exact.numerator // exact.denominator)
        assert deals_needed(10_000_000, row) == wanted
        assert deals_needed(None, row) is None
    months = book.reference.fiscal.months_of(2026)
    for measure, unit in (("amount", "amount"), ("deals", None)):
        found = so_far(book, valued(book, snapshot, measure), months, Filter(), ("company", 0))
        for one in found:
            won = [
                s[unit] if unit else 100
                for s in naive.states.values()
                if s["kind"] == "won" and months[0].starts_on <= s["closed_on"] <= one.period.ends_on
            ]
            assert one.won == sum(won)


@pytest.mark.parametrize("seed", range(10))
def test_money_adds_up_in_any_scope(seed):
    """Per person = team = company, territory = company with those without, equal to `figures attainment`; ten scopes a world."""
    book, random = random_world(seed, 50).book(), Random(f"scopes{seed}")
    for _ in range(10):
        start = date(2024, 1, 1) + timedelta(days=random.randrange(500))
        text = f"{start}/{start + timedelta(days=random.randrange(20, 400))}"
        day = date(2024, 6, 1) + timedelta(days=random.randrange(700))
        narrowed = {"territory": random.choice((None, "x", "y")), "process": random.choice((None, "p"))}
        answers = {
            by: ask(book, "attainment", text, day, by, **narrowed) for by in ("company", "person", "team", "territory")
        }
        tree = book.reference.team_tree(day)
        roots = {book.reference.teams[i].key for i in tree.children(-1)} | {None}
        above = book.reference.territory_tree(day)
        first = {"x", "y"} if narrowed["territory"] is None else {narrowed["territory"]}
        tops = (
            {book.reference.territories[i].key for i in above.children(-1)} if narrowed["territory"] is None else first
        )
        for figure in ("won", "open"):
            whole = getattr(answers["company"][""]["forecast"], figure)
            sums = {
                by: sum(
                    getattr(row["forecast"], figure) for key, row in answers[by].items() if keep is None or key in keep
                )
                for by, keep in (("person", None), ("team", roots), ("territory", tops | {None}))
            }
            assert sums == dict.fromkeys(sums, whole), (text, day, narrowed)


def row_of(book, text, on, by="company"):
    """The first row of a forecast."""
    return forecast(book, book.as_of(on), book.reference.fiscal.parse(text), Filter(), by)[0]


def won_book(won, lost, amount=1_000):
    """A book in which so many deals were won and lost in May 2025."""
    world = World()
    for number in range(won + lost):
        states = (
            ("2025-04-01", "s1", "1.00", None),
            ("2025-05-01", "w" if number < won else "l", f"{amount / 100:.2f}", None),
        )
        world.deal(f"d{number:02}", *states)
    return world


@pytest.mark.parametrize(
    ("won", "lost", "amount", "gap", "needed"),
    [
        (5, 5, 1_000, 1, 1),
        (5, 5, 1_000, 500, 1),
        (5, 5, 1_000, 501, 2),
        (5, 5, 1_000, 0, None),
        (5, 5, 1_000, -1, None),
        (5, 4, 1_000, 500, None),
        (0, 10, 1_000, 500, None),
        (10, 0, 0, 500, None),
        (10, 0, 0.1, 1, None),
    ],
)
def test_deals_needed_at_the_edges(won, lost, amount, gap, needed):
    """Two closed deals for one won of 10.00: each brings 5.00; fewer than ten closed, or nothing won, say nothing."""
    assert deals_needed(gap, row_of(won_book(won, lost, amount).book(), "FY2026", date(2025, 12, 31))) == needed


def test_shares_and_means_of_closed_deals():
    """Of three won and one lost a quarter is lost; nothing closed has neither."""
    row = row_of(won_book(3, 1, 1_001).book(), "FY2026", date(2025, 12, 31))
    assert (lost_share(row), won_share(row), mean_won(row)) == (0.25, 0.75, 1_001)
    empty = row_of(won_book(1, 0).book(), "FY2026", date(2025, 4, 2))
    assert (lost_share(empty), won_share(empty), mean_won(empty)) == (None, None, None)


def test_four_quarters_before_are_those_that_are_over():
    """Fiscal years from April: in the middle of the second quarter of FY2026 they run from its day a year back."""
    found = four_quarters_before(FiscalCalendar(4), date(2025, 8, 15))
    assert (str(found.starts_on), str(found.ends_on), found.kind) == ("2024-07-01", "2025-06-30", "span")
    assert found.text == "2024-07-01/2025-06-30"
    first_day = four_quarters_before(FiscalCalendar(4), date(2025, 7, 1))
    assert first_day == found


def test_spans_side_by_side_have_a_place_for_rows_that_one_of_them_lacks():
    """A source with deals in one span only: its place in the other is empty or holds nothing."""
    world = World().deal("d1", ("2025-05-01", "w", "10.00", None), source="fair")
    world.deal("d2", ("2025-08-01", "w", "20.00", None), source="web")
    book = world.book()
    spans = [book.reference.fiscal.parse(text) for text in ("FY2026-Q1", "FY2026-Q2")]
    found = side_by_side(book, book.as_of(date(2025, 12, 31)), spans, Filter(), "source")
    assert {node: [row and row.won for row in rows] for node, rows in found.items()} == {0: [1_000, 0], 1: [0, 2_000]}
    # Without the attribute there is a row only where a deal has none.
    world.deal("d3", ("2025-08-02", "w", "5.00", None))
    book = world.book()
    one = side_by_side(book, book.as_of(date(2025, 12, 31)), spans, Filter(), "source")
    assert [row and row.won for row in one[-1]] == [None, 500]


def test_sums_so_far_add_up_targets_of_the_months_that_have_one():
    """Of April to June only May and June have a target; open counts from the month of the day on."""
    world = (
        World()
        .quota("company", "", "2025-05-01", "2025-05-31", "100")
        .quota("company", "", "2025-06-01", "2025-06-30", "50")
    )
    world.deal("d1", ("2025-04-10", "w", "30.00", None)).deal("d2", ("2025-04-10", "s3", "7.00", "2025-05-20"))
    world.deal("d3", ("2025-04-10", "s3", "5.00", "2025-06-20")).deal("d4", ("2025-05-02", "w", "40.00", None))
    book = world.book()
    months = book.reference.fiscal.months_of(2026)[:3]
    found = so_far(book, book.as_of(date(2025, 5, 10)), months, Filter(), ("company", 0))
    assert [(one.won, one.target, one.open) for one in found] == [
        (3_000, 0, None),
        (7_000, 10_000, 700),
        (7_000, 15_000, 1_200),
    ]
    assert [one.attainment for one in found] == [None, 0.7, 7 / 15]
    without = so_far(
        won_book(1, 0).book(), won_book(1, 0).book().as_of(date(2025, 5, 10)), months, Filter(), ("company", 0)
    )
    assert [one.target for one in without] == [None, None, None]
    # A team's own target, not the whole's.
    of_team = so_far(
        world.quota("team", "t1", "2025-04-01", "2025-04-30", "9").book(),
        world.book().as_of(date(2025, 5, 10)),
        months,
        Filter(team=0),
        ("team", 0),
    )
    assert [one.target for one in of_team] == [900, 900, 900]


def test_one_minor_unit_is_still_a_gap():
    days = DaysOf(30, 60)
    assert (days.needed_per_week(1), days.needed_per_week(9), days.needed_per_week(-1)) == (0, 1, None)


def test_the_last_day_of_a_period_still_shows_what_is_open():
    """On 31 March January's line has no open part, March's has, the day after none."""
    book = book_of([[(day("2026-01-10"), SECOND, 700, day("2026-03-31"))]])
    months = tuple(reference().fiscal.parse(f"FY2026-M{month:02}") for month in (1, 2, 3))
    last = so_far(book, book.as_of(day("2026-03-31")), months, Filter(), ("company", 0))
    assert [one.open for one in last] == [None, None, 700]
    after = so_far(book, book.as_of(day("2026-04-01")), months, Filter(), ("company", 0))
    assert [one.open for one in after] == [None, None, None]
