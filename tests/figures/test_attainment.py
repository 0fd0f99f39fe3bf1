"""Cash and activities against plain Python on random rows."""

from collections import defaultdict
from datetime import date, timedelta
from fractions import Fraction
from itertools import pairwise
from random import Random

import pytest

from tests.support.naive import Naive, half_even, local
from tests.support.random_world import random_world, window
from tests.support.world import World, moment
from wise_tally.book.store import books
from wise_tally.core.derived import Cache
from wise_tally.core.lines import Filter
from wise_tally.pages.attainment.cash import Cash

SEEDS = range(6)


@pytest.mark.django_db
def test_months_of_the_calendar_are_cut_to_the_period(tmp_path, rf):
    """A period from the 15th to the 10th has three months, the first and last cut; what is due outside counts nowhere."""
    from types import SimpleNamespace

    world = World().deal("d1", ("2025-01-01", "w", "100.00", None))
    for due in ("2025-05-14", "2025-05-15", "2025-06-30", "2025-07-10", "2025-07-11"):
        world.add("payments", deal_id="d1", due_on=due, amount="10.00")
    world.read(tmp_path)
    book = books.current()
    period = book.reference.fiscal.parse("2025-05-15/2025-07-10")
    line = SimpleNamespace(book=book, snapshot=book.as_of(date(2026, 1, 1)), period=period, scope=Filter())
    cash = Cash(line)
    assert [(str(m.starts_on), str(m.ends_on)) for m in cash.months] == [
        ("2025-05-15", "2025-05-31"),
        ("2025-06-01", "2025-06-30"),
        ("2025-07-01", "2025-07-10"),
    ]
    assert [row.won_minor for row in cash.rows] == [1_000, 1_000, 1_000]
    assert all(a.ends_on < b.starts_on for a, b in pairwise(cash.months))


@pytest.mark.django_db
@pytest.mark.parametrize("seed", SEEDS)
def test_activities_equal_a_loop_over_rows(seed, tmp_path, monkeypatch):
    """Done ones of people by the local day, a team's by its members of that day; web visits apart; targets by kind."""
    from types import SimpleNamespace

    from wise_tally.core.activity import activity_attainment
    from wise_tally.web.activities_done import done_in

    random, world = Random(f"acts{seed}"), random_world(seed, 5)
    start, end, day = window(seed)
    for number in range(300):
        at = moment(f"{date(2024, 1, 1) + timedelta(days=random.randrange(900))} {random.randrange(24):02}:30")
        kind = random.choice(("phone", "mail", "task", "web_visit", "meeting", "site_visit"))
        status = random.choice(("done", "planned", None))
        person = random.choice(("a", "b", "c", "d", None))
        world.add("activities", activity_id=f"v{number}", kind=kind, at=at, status=status, person_id=person)
    world.quota("person", "a", "2024-01-01", "2026-12-31", "1096", metric="activities", activity_kind="phone")
    world.read(tmp_path)
    book = books.current()
    line = SimpleNamespace(book=book, as_of=day, cache=Cache())
    line.firm = line
    period, naive = book.reference.fiscal.parse(f"{start}/{end}"), Naive(world.tables, day)
    from datetime import datetime

    for kind in ("", "phone", "web_visit"):
        done = done_in(line, period).of_kind(kind)
        for by in ("company", "team", "person"):
            plain = defaultdict(int)
            for row in world.tables["activities"]:
                on = local(datetime.fromisoformat(row["at"]))
                wanted = row["kind"] == kind if kind else row["kind"] != "web_visit"
                if (
                    row.get("status") == "planned"
                    or not row.get("person_id")
                    or not wanted
                    or not start <= on <= min(end, day)
                ):
                    continue
                person = row["person_id"]
                team = naive.above("team", naive.team(person, on)) or [None]
                for node in {"company": [""], "person": [person], "team": team}[by]:
                    plain[node] += 100
            found = activity_attainment(book, book.as_of(day), period, Filter(), by, done)
            assert {r.forecast.key: r.forecast.won for r in found if r.forecast.won} == dict(plain)
            if by == "person":
                quota = next(r.forecast.quota for r in found if r.forecast.key == "a")
                days = (min(end, date(2026, 12, 31)) - max(start, date(2024, 1, 1))).days + 1
                assert quota == (half_even(Fraction(109_600 * days, 1096)) if kind == "phone" else None)
