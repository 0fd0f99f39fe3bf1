"""Attainment against plain Python on random rows; same days on awkward dates; sums that hold."""

from datetime import date, timedelta
from fractions import Fraction
from random import Random

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive
from tests.support.random_world import random_world
from wise_tally.core.attainment import DaysOf, deals_needed, ranks, so_far
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.measures import valued
from wise_tally.core.same_days import YEAR, same_days

SEEDS = range(6)


@pytest.mark.parametrize(
    ("start_month", "as_of", "kind", "before", "year"),
    [
        (1, "2024-02-29", "month", "2024-01-29", "2023-02-28"),
        (4, "2024-02-29", "quarter", "2023-11-29", "2023-02-28"),
        (10, "2025-02-28", "year", "2024-02-28", "2024-02-28"),
        (4, "2026-05-31", "quarter", "2026-02-28", "2025-05-31"),
        (10, "2026-12-31", "month", "2026-11-30", "2025-12-31"),
        (10, "2026-10-01", "year", "2025-10-01", "2025-10-01"),
        (4, "2026-08-15", "quarter", "2026-05-15", "2025-08-15"),
        (1, "2026-03-30", "month", "2026-02-28", "2025-03-30"),
    ],
)
def test_a_part_meets_the_same_part(start_month, as_of, kind, before, year):
    """29 February, month ends, fiscal years from April and October; by the ruling: min(day, last day of the month)."""
    fiscal, day = FiscalCalendar(start_month), date.fromisoformat(as_of)
    period = fiscal.containing(day, kind)
    now, then = same_days(fiscal, period, day)
    assert (now.starts_on, now.ends_on) == (period.starts_on, day)
    assert then.starts_on == fiscal.shifted(period, -1).starts_on
    over = day >= period.ends_on
    assert then.ends_on == (fiscal.shifted(period, -1).ends_on if over else date.fromisoformat(before))
    assert same_days(fiscal, period, day, YEAR)[1].ends_on == date.fromisoformat(year)


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
