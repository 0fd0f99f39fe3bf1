"""Commissions against plain Python on random rows, and by hand at their boundaries (invented numbers)."""

from collections import defaultdict
from dataclasses import replace
from datetime import date, timedelta
from fractions import Fraction
from random import Random

import pytest

from tests.support.naive import Naive, cents, half_even, local
from tests.support.random_world import random_world
from tests.support.small_books import FIRST, IS_WON, book_of, day, reference
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.commission import (
    PARTNER,
    CommissionLine,
    Rates,
    StatedLine,
    added_by_deal,
    commissions,
    like,
    rate_on,
    since_statement,
    summed,
    together,
)
from wise_tally.core.lines import Filter
from wise_tally.core.reference_data import Quota


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


@pytest.mark.parametrize("seed", range(6))
def test_commissions_equal_a_loop_over_deals(seed):
    """Rates by the day of closing, the part above quota, take-backs in later periods; quarters and months."""
    world = with_commissions(seed)
    book, fiscal = world.book(), FiscalCalendar(4)
    rates = {
        key: [
            (date.fromisoformat(r["from_on"]), Fraction(r["rate"]))
            for r in world.tables.get("commission_rates", [])
            if r["subject_id"] == key
        ]
        for key in "abcd"
    }

    plain_rates = tuple(
        tuple(sorted((on.toordinal(), int(rate * 100)) for on, rate in rates.get(one.key, ())))
        for one in book.reference.people
    )
    from_on = date(2020, 1, 1).toordinal()
    of_people = Rates(plain_rates, tuple(((from_on, 900),) if one.key == "a" else () for one in book.reference.people))

    def quota(person, period):
        rows = [r for r in world.tables["quotas"] if r["subject_id"] == person]
        inside = [cents(r["value"]) for r in rows if str(period.starts_on) <= r["starts_on"] <= str(period.ends_on)]
        return sum(inside) if inside else None

    for text in ("FY2025-Q2", "FY2025-Q4", "FY2026-Q1", "FY2026-Q2", "FY2026-M04"):
        period, day = fiscal.parse(text), date(2026, 1, 31)
        naive = Naive(world.tables, day)
        found = commissions(book, book.as_of(day), period, Filter(), of_people)
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
        teams = [naive.above("team", naive.team(keys[f.subject], date.fromordinal(f.on))) for f in found]
        for index, one in enumerate(book.reference.people):
            own = commissions(book, book.as_of(day), period, Filter(person=index), of_people)
            assert own == tuple(f for f in found if f.subject == index), one.key
        for index, one in enumerate(book.reference.teams):
            own = commissions(book, book.as_of(day), period, Filter(team=index), of_people)
            of_team = [f for f, above in zip(found, teams, strict=True) if above and one.key in above]
            assert [f for f in own if not f.taken_back] == [f for f in of_team if not f.taken_back], one.key
        assert not commissions(book, book.as_of(day), period, Filter(process=1, person=0), of_people)
    snapshot = book.as_of(date(2026, 1, 31))
    months = [fiscal.part(2026, "month", n) for n in (1, 2, 3)]
    whole = commissions(book, snapshot, fiscal.parse("FY2026-Q1"), Filter(), of_people)
    kept = [line for m in months for line in commissions(book, snapshot, m, Filter(), of_people)]
    assert sum(line.amount_minor for line in kept) == sum(line.amount_minor for line in whole)


def test_what_changed_since_a_statement():
    """New, gone and changed lines; equal ones are passed over."""
    one, two = StatedLine("d1", 10, False, 100, 5), StatedLine("d2", 11, False, 200, 10)
    again, back = StatedLine("d2", 11, False, 300, 15), StatedLine("d1", 20, True, -100, -5)
    found = since_statement([one, two], [one, again, back])
    assert [(d.before, d.after, d.commission_minor) for d in found] == [(None, back, -5), (two, again, 5)]


def test_the_rate_of_a_day():
    """The last not after it; before the first row the first holds."""
    rows = ((100, 250), (200, 300))
    assert [rate_on(rows, on) for on in (50, 100, 199, 200, 900)] == [250, 250, 250, 300, 300]
    assert rate_on((), 100) is None


def test_a_deal_that_left_won_earns_nothing_within_a_period_and_is_taken_back_in_a_later_one():
    """Won in March and reopened in the quarter, won in March and reopened in May, won again in June; no rate for the second person."""
    book = book_of([
        [(day("2025-03-01"), IS_WON, 10_005, None), (day("2025-03-31"), FIRST, 10_005, None)],
        [(day("2025-03-02"), IS_WON, 20_050, None), (day("2025-05-04"), FIRST, 20_050, None), (day("2025-06-05"), IS_WON, 30_000, None)],
    ])  # fmt: skip
    fiscal, snapshot = FiscalCalendar(1), book.as_of(day("2025-12-31"))
    rates = Rates((((0, 250),),), ((),))

    def told(text, rates=rates):
        found = commissions(book, snapshot, fiscal.parse(text), Filter(), rates)
        return [
            (one.deal, str(date.fromordinal(one.on)), one.amount_minor, one.commission_minor, one.taken_back)
            for one in found
        ]

    first, back = (1, "2025-03-02", 20_050, 501, False), (1, "2025-05-04", -20_050, -501, True)
    again = (1, "2025-06-05", 30_000, 750, False)
    assert told("FY2025-Q1") == [first], "501.25 is 501; what was reopened on the quarter's last day earns nothing"
    assert told("FY2025-M03") == [first]
    assert told("FY2025-Q2") == [back, again]
    assert told("FY2025") == [again], "won and left within the year"
    assert told("2025-05-01/2025-05-31") == [back], "what was closed before two free dates is measured by its quarter"
    without = Rates(((),), ((),))
    assert told("FY2025-Q2", without) == [(*back[:3], None, True), (*again[:3], None, False)]
    lines = commissions(book, snapshot, fiscal.parse("FY2025-Q2"), Filter(), rates)
    (total,) = summed(lines)
    assert (total.credited_minor, total.commission_minor, total.taken_back_minor) == (9_950, 249, -501)
    assert (total.lines, total.without_rate, total.deals) == (2, 0, {1})
    assert added_by_deal(lines, credited=True) == {1: 9_950}
    assert added_by_deal(lines, credited=False) == {1: 249}
    both = together(
        (total, *summed(commissions(book, snapshot, fiscal.parse("FY2025-Q1"), Filter(), Rates(((),), ((),)))))
    )
    assert (both.subject, both.credited_minor, both.lines, both.without_rate, both.deals) == (-1, 30_000, 3, 1, {1})


def test_partners_earn_on_the_whole_amount_and_no_quota_counts():
    """The partner of a deal, at the partner's rate of the day of closing; deals without one earn nobody anything."""
    world = with_commissions(1)
    for index, row in enumerate(world.tables["deals"]):
        row["partner_id"] = ("p1", None, "p2")[index % 3]
    for key in ("p1", "p2"):
        world.add("partners", partner_id=key, name=key.title())
    book, year, rates = world.book(), FiscalCalendar(4).parse("FY2026"), Rates((((0, 250),), ()), ((), ()))
    found = commissions(
        book, book.as_of(date(2026, 1, 31)), year, Filter(), Rates((((0, 250),), ()), ((), ())), PARTNER
    )
    naive, plain = Naive(world.tables, date(2026, 1, 31)), []
    of = {row["deal_id"]: row["partner_id"] for row in world.tables["deals"]}
    for key, on, left, row in won_spans(naive):
        if of[key] and year.starts_on <= on <= year.ends_on and not (left and left <= year.ends_on):
            earned = half_even(Fraction(cents(row["amount"]) * 250, 10_000)) if of[key] == "p1" else None
            plain.append((of[key] == "p2", key, on.toordinal(), cents(row["amount"]), earned))
    kept = [f for f in found if not f.taken_back]
    assert sorted(
        (f.subject, book.deals.key[f.deal], f.on, f.amount_minor, f.commission_minor) for f in kept
    ) == sorted(plain)
    assert {f.above_minor for f in found} == {0}
    own = [commissions(book, book.as_of(date(2026, 1, 31)), year, Filter(person=p), rates, PARTNER)
           for p in range(len(book.reference.people))]  # fmt: skip
    assert sum(map(len, own)) == len(found) > len(max(own, key=len)), "each is of the person whose deal it was"


def test_what_stands_above_the_quota_is_taken_back_as_it_was_earned():
    """Closed on the first day of a quarter, reopened on the last of the next: 400 at 2.5 % and 600 at 5 %."""
    quota = Quota("person", 1, "won_amount", day("2025-04-01").toordinal(), day("2025-06-30").toordinal(), 400)
    ground = replace(reference(("ann", "bob")), quotas=(quota,))
    deal = [(day("2025-04-01"), IS_WON, 1_000, None), (day("2025-09-30"), FIRST, 1_000, None), 1]
    book = book_of([deal], ground)
    rates = Rates(((), ((0, 250),)), ((), ((0, 0), (day("2025-02-01").toordinal(), 500))))
    for text, sign in (("FY2025-Q2", 1), ("FY2025-M04", 1), ("FY2025-Q3", -1), ("FY2025-M09", -1)):
        found = commissions(book, book.as_of(day("2025-12-31")), FiscalCalendar(1).parse(text), Filter(), rates)
        above = 600 if "Q" in text else 1_000 - (400 * 30 + 45) // 91
        (line,) = found
        assert (line.amount_minor, line.above_minor, line.taken_back) == (1_000 * sign, above * sign, sign < 0), text
        assert (line.rate_bp, line.above_bp) == (250, 500)
        assert line.commission_minor == sign * round(((1_000 - above) * 250 + above * 500) / 10_000)


def test_what_deals_add_stands_in_order():
    lines = [CommissionLine(0, deal, 1, amount, 100, 0, None, earned) for deal, amount, earned in
             ((3, 50, None), (1, 50, 2), (2, 90, 1), (3, 10, None))]  # fmt: skip
    assert list(added_by_deal(lines, credited=True).items()) == [(2, 90), (3, 60), (1, 50)]
    assert list(added_by_deal(lines, credited=False).items()) == [(1, 2), (2, 1), (3, 0)]
    (total,) = summed([replace(line, subject=4, taken_back=True) for line in lines])
    assert (total.subject, total.taken_back_minor, total.without_rate) == (4, 3, 2)


def test_a_period_like_another():
    fiscal = FiscalCalendar(1)
    month, span = fiscal.parse("FY2025-M05"), fiscal.parse("2025-05-01/2025-06-10")
    assert like(fiscal, date(2025, 5, 31), month) == like(fiscal, date(2025, 5, 1), month) == month
    assert like(fiscal, date(2025, 5, 1), span) == span
    assert like(fiscal, date(2025, 4, 30), month) == fiscal.parse("FY2025-M04")
    assert like(fiscal, date(2025, 6, 10), span) == span
    assert like(fiscal, date(2025, 4, 30), span) == fiscal.parse("FY2025-Q2")
