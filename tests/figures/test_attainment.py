"""Commissions, cash and activities against plain Python on random rows."""

from collections import defaultdict
from datetime import date, timedelta
from fractions import Fraction
from itertools import pairwise
from random import Random

import pytest

from tests.support.naive import Naive, cents, half_even, local
from tests.support.random_world import random_world, window
from tests.support.world import World, moment
from wise_tally.book.store import books
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.cash import payments_in
from wise_tally.core.commission import StatedLine, commissions, since_statement, summed
from wise_tally.core.derived import Cache
from wise_tally.core.lines import Filter
from wise_tally.pages.attainment.cash import Cash
from wise_tally.pages.attainment.commissions import rates_of

SEEDS = range(6)


def with_commissions(seed):
    """A random world with rates that change, and rates above quota set afterwards."""
    random, world = Random(f"rates{seed}"), random_world(seed, 60)
    for key in "abc":
        for _ in range(random.randrange(3)):
            day = date(2024, 1, 1) + timedelta(days=random.randrange(600))
            row = {
                "subject": "person",
                "subject_id": key,
                "from_on": str(day),
                "rate": str(random.choice((2.5, 3, 7.25))),
            }
            if not any(
                r["subject_id"] == key and r["from_on"] == str(day) for r in world.tables.get("commission_rates", [])
            ):
                world.add("commission_rates", **row)
        for month in FiscalCalendar(4).months_of(2025) + FiscalCalendar(4).months_of(2026):
            world.quota(
                "person", key, str(month.starts_on), str(month.ends_on), f"{random.randrange(1_000, 15_000)}.00"
            )
    return world


def won_spans(naive):
    """(deal, day won, day it left won or None, state of the last revision while won) straight from the rows."""
    for key, rows in naive.revisions.items():
        before = [row for row in rows if row["at"] < naive.cut]
        kinds = [naive.stages[row["stage_id"]]["kind"] for row in before]
        for place, kind in enumerate(kinds):
            if kind == "won" and (place + 1 == len(kinds) or kinds[place + 1] != "won"):
                first = place
                while first and kinds[first - 1] == "won":
                    first -= 1
                left = local(before[place + 1]["at"]) if place + 1 < len(kinds) else None
                yield key, local(before[first]["at"]), left, before[place]


def plain_commissions(naive, rates, above, quotas, period_of, chosen):
    """What each person earns in a period, and what is taken back of earlier ones, by a loop over deals in fractions."""

    def earned(period):
        lines = defaultdict(list)
        for key, on, left, row in won_spans(naive):
            if not period.starts_on <= on <= period.ends_on or (left and left <= period.ends_on):
                continue
            rows = [r for r in naive.tables.get("deal_credits", []) if r["deal_id"] == key]
            shares = naive.shares(key) if rows else {row["owner_id"]: Fraction(100)}
            for person, part in naive.divide(cents(row["amount"]), shares).items():
                lines[person].append((on, key, part, left))
        for person, own in lines.items():
            done = 0
            for on, key, part, left in sorted(own, key=lambda line: line[:2]):
                quota = quotas(person, period)
                higher = above.get(person)
                over = max(0, min(part, done + part - quota)) if quota is not None and higher is not None else 0
                done += part
                rate = naive.last_dated(rates[person], on) if rates.get(person) else None
                money = None if rate is None else half_even(((part - over) * rate + over * (higher or 0)) / 100)
                yield person, key, on, left, part, money

    found = [(p, k, on, part, money) for p, k, on, _, part, money in earned(chosen)]
    periods = {
        period_of(on) for _, on, left, _ in won_spans(naive) if left and chosen.starts_on <= left <= chosen.ends_on
    }
    for period in periods - {chosen}:
        for person, key, _, left, part, money in earned(period):
            if left and chosen.starts_on <= left <= chosen.ends_on:
                found.append((person, key, left, -part, None if money is None else -money))
    return sorted(found, key=str)


@pytest.mark.django_db
@pytest.mark.parametrize("seed", SEEDS)
def test_commissions_equal_a_loop_over_deals(seed, tmp_path):
    """Rates by the day of closing, the part above quota, take-backs in later periods; quarters and months."""
    from wise_tally.domain.org.models import Person, RateAboveQuota

    world = with_commissions(seed).read(tmp_path)
    RateAboveQuota.objects.create(person=Person.objects.get(key="a"), from_on=date(2020, 1, 1), rate_bp=900)
    book, fiscal = books.current(), FiscalCalendar(4)
    rates = {
        key: [
            (date.fromisoformat(r["from_on"]), Fraction(r["rate"]))
            for r in world.tables.get("commission_rates", [])
            if r["subject_id"] == key
        ]
        for key in "abcd"
    }

    def quota(person, period):
        rows = [r for r in world.tables["quotas"] if r["subject_id"] == person]
        inside = [cents(r["value"]) for r in rows if str(period.starts_on) <= r["starts_on"] <= str(period.ends_on)]
        return sum(inside) if inside else None

    for text in ("FY2025-Q2", "FY2025-Q4", "FY2026-Q1", "FY2026-Q2", "FY2026-M04"):
        period, day = fiscal.parse(text), date(2026, 1, 31)
        naive = Naive(world.tables, day)
        found = commissions(book, book.as_of(day), period, Filter(), rates_of("person"))
        plain = plain_commissions(
            naive, rates, {"a": Fraction(9)}, quota, lambda on, p=period: fiscal.containing(on, p.kind), period
        )
        keys = [person.key for person in book.reference.people]
        shown = [
            (keys[f.subject], book.deals.key[f.deal], date.fromordinal(f.on), f.amount_minor, f.commission_minor)
            for f in found
        ]
        assert sorted(shown, key=str) == plain
        assert sum(one.commission_minor for one in summed(found)) == sum(row[4] or 0 for row in plain)
    snapshot = book.as_of(date(2026, 1, 31))
    months = [fiscal.part(2026, "month", n) for n in (1, 2, 3)]
    whole = commissions(book, snapshot, fiscal.parse("FY2026-Q1"), Filter(), rates_of("person"))
    kept = [line for m in months for line in commissions(book, snapshot, m, Filter(), rates_of("person"))]
    assert sum(line.amount_minor for line in kept) == sum(line.amount_minor for line in whole)


def test_what_changed_since_a_statement():
    """New, gone and changed lines; equal ones are passed over."""
    one, two = StatedLine("d1", 10, False, 100, 5), StatedLine("d2", 11, False, 200, 10)
    again, back = StatedLine("d2", 11, False, 300, 15), StatedLine("d1", 20, True, -100, -5)
    found = since_statement([one, two], [one, again, back])
    assert [(d.before, d.after, d.commission_minor) for d in found] == [(None, back, -5), (two, again, 5)]


def with_payments(seed):
    """Plans of every kind: once, instalments, without end, on the last day of a month."""
    random, world = Random(f"cash{seed}"), random_world(seed, 40)
    for deal in [row["deal_id"] for row in world.tables["deals"]]:
        for _ in range(random.randrange(3)):
            due = date(2024, 1, 31) + timedelta(days=random.randrange(900))
            every = random.choice(("", "month", "quarter", "year"))
            times = random.choice((2, 5, None)) if every else None
            row = {
                "deal_id": deal,
                "due_on": str(due),
                "amount": f"{random.randrange(9_999)}.{random.randrange(100):02}",
            }
            if (deal, str(due)) not in {(r["deal_id"], r["due_on"]) for r in world.tables.get("payments", [])}:
                world.add("payments", **row, every=every or None, times=times)
    return world


def occurrences(row, until):
    """The days of a plan, one by one."""
    first, step = date.fromisoformat(row["due_on"]), {None: 0, "month": 1, "quarter": 3, "year": 12}[row.get("every")]
    number = 0
    while True:
        place = first.year * 12 + first.month - 1 + step * number
        year, month = divmod(place, 12)
        last = (date(year + (month == 11), (month + 1) % 12 + 1, 1) - timedelta(days=1)).day
        day = date(year, month + 1, min(first.day, last))
        if day > until:
            return
        yield day
        number += 1
        if not step or (row.get("times") and number >= row["times"]):
            return


@pytest.mark.django_db
@pytest.mark.parametrize("seed", SEEDS)
def test_the_cash_calendar_equals_a_loop_over_payments(seed, tmp_path):
    """By month, won in full and open weighted per payment; and a person's are the credited parts, which add up."""
    world = with_payments(seed).read(tmp_path)
    book, day = books.current(), window(seed)[2]
    snapshot, naive = book.as_of(day), Naive(world.tables, day)
    months = book.reference.fiscal.months_of(2025)
    plain = {m.text: {"won": 0, "open": 0} for m in months}
    for row in world.tables["payments"]:
        state = naive.states.get(row["deal_id"])
        if (
            state is None
            or state["kind"] == "lost"
            or (state["kind"] == "open" and state["category"] not in naive.counted)
        ):
            continue
        for on in occurrences(row, months[-1].ends_on):
            month = next((m for m in months if m.starts_on <= on <= m.ends_on), None)
            if month:
                plain[month.text][state["kind"]] += half_even(cents(row["amount"]) * state["probability"] / 100)
    plans = book.attributes.plans()
    whole = payments_in(book, snapshot, plans, months, Filter())
    from wise_tally.core.cash import cash_calendar

    for one in cash_calendar(snapshot, whole, months):
        assert (one.won_minor, one.open_minor) == (plain[one.period.text]["won"], plain[one.period.text]["open"])
    parts = [payments_in(book, snapshot, plans, months, Filter(person=p)) for p in range(len(book.reference.people))]
    assert sum(int(p.value_minor.sum()) for p in parts) == int(whole.value_minor.sum())


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
