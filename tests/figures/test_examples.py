"""Worked examples of commissions and cash, and properties that always hold."""

from datetime import date, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.world import World
from wise_tally.book.store import books
from wise_tally.core.attainment import DaysOf, ranks
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.cash import CashPeriod, cash_calendar, payments_in
from wise_tally.core.commission import commissions, like, rate_on, summed
from wise_tally.core.lines import Filter
from wise_tally.core.same_days import YEAR, same_days, year_before
from wise_tally.core.tally import change_of
from wise_tally.domain.org.models import Person, RateAboveQuota
from wise_tally.pages.attainment.commissions import rates_of

DAYS = st.dates(date(2001, 1, 1), date(2098, 12, 31))
db = pytest.mark.django_db


def lines_of(period, day="2025-12-31", subject="person"):
    """Deal, day, credited, commission and whether taken back, of everybody."""
    book = books.current()
    fiscal = book.reference.fiscal
    found = commissions(
        book, book.as_of(date.fromisoformat(day)), fiscal.parse(period), Filter(), rates_of(subject), subject
    )
    return [
        (book.deals.key[f.deal], str(date.fromordinal(f.on)), f.amount_minor, f.commission_minor, f.taken_back)
        for f in found
    ]


@db
def test_the_rate_in_force_on_the_day_of_closing_counts(tmp_path):
    """2 % until May, 3 % from 1 June; before its first row the first holds; who has no rate earns nothing that is known."""
    world = World()
    world.add("commission_rates", subject="person", subject_id="a", from_on="2025-05-01", rate="2")
    world.add("commission_rates", subject="person", subject_id="a", from_on="2025-06-01", rate="3")
    for key, day in (("d1", "2025-04-15"), ("d2", "2025-05-31"), ("d3", "2025-06-01")):
        world.deal(key, (day, "w", "1000.00", None))
    world.deal("d4", ("2025-06-02", "w", "50.00", None, {"owner_id": "b"}))
    world.read(tmp_path)
    assert lines_of("FY2026-Q1") == [
        ("d1", "2025-04-15", 100_000, 2_000, False),
        ("d2", "2025-05-31", 100_000, 2_000, False),
        ("d3", "2025-06-01", 100_000, 3_000, False),
        ("d4", "2025-06-02", 5_000, None, False),
    ]
    book = books.current()
    period, snapshot = book.reference.fiscal.parse("FY2026-Q1"), book.as_of(date(2025, 12, 31))
    sums = summed(commissions(book, snapshot, period, Filter(), rates_of("person")))
    assert [(one.commission_minor, one.without_rate) for one in sums] == [(7_000, 0), (0, 1)]


@db
def test_what_stands_above_the_quota_earns_more(tmp_path):
    """Quota 1,500: of the second deal 500 stand below and 500 above, the third wholly above; the rate above begins in May."""
    world = World()
    world.tables["people"][0]["commission_rate"] = "2"
    world.quota("person", "a", "2025-04-01", "2025-06-30", "1500.00")
    for key, day in (("d1", "2025-04-15"), ("d2", "2025-05-31"), ("d3", "2025-06-01")):
        world.deal(key, (day, "w", "1000.00", None))
    world.read(tmp_path)
    assert [line[3] for line in lines_of("FY2026-Q1")] == [2_000, 2_000, 2_000]
    RateAboveQuota.objects.create(person=Person.objects.get(key="a"), from_on=date(2025, 5, 1), rate_bp=500)
    assert [line[3] for line in lines_of("FY2026-Q1")] == [2_000, 1_000 + 2_500, 5_000]
    RateAboveQuota.objects.create(person=Person.objects.get(key="a"), from_on=date(2025, 6, 1), rate_bp=0)
    assert [line[3] for line in lines_of("FY2026-Q1")] == [2_000, 3_500, 0]


@db
def test_a_reopened_deal_is_taken_back_in_the_period_of_reopening(tmp_path):
    """Won in May, reopened in August: earned in the first quarter, taken back in the second, nothing over the year."""
    world = World()
    world.tables["people"][0]["commission_rate"] = "10"
    world.deal("d1", ("2025-05-05", "w", "300.00", None), ("2025-08-01", "s3", "300.00", "2025-12-01"))
    world.deal(
        "d2",
        ("2025-05-06", "w", "100.00", None),
        ("2025-05-20", "s3", "100.00", None),
        ("2025-06-20", "w", "120.00", None),
    )
    world.read(tmp_path)
    first, back = ("d1", "2025-05-05", 30_000, 3_000, False), ("d1", "2025-08-01", -30_000, -3_000, True)
    again = ("d2", "2025-06-20", 12_000, 1_200, False)
    assert lines_of("FY2026-Q1") == [first, again]
    assert lines_of("FY2026-Q2") == [back]
    assert lines_of("FY2026") == [again]
    assert lines_of("FY2026-M02") == [first]
    assert lines_of("FY2026-Q1", "2025-07-31") == [first, again]
    assert lines_of("2025-08-01/2025-08-31") == [back]


@db
def test_partners_earn_on_the_whole_of_a_split_deal(tmp_path):
    """Two people share a deal 1 to 2, rounded by largest remainder; the partner's rate takes the whole amount."""
    world = World()
    for person in world.tables["people"]:
        person["commission_rate"] = "10"
    world.add("partners", partner_id="x", name="X", commission_rate="5")
    world.deal("d1", ("2025-05-05", "w", "100.00", None), partner_id="x")
    world.add("deal_credits", deal_id="d1", person_id="a", share="33.33")
    world.add("deal_credits", deal_id="d1", person_id="b", share="66.67")
    world.deal("d2", ("2025-05-06", "w", "7.00", None))
    world.read(tmp_path)
    assert [line[2:4] for line in lines_of("FY2026-Q1")] == [(3_333, 333), (700, 70), (6_667, 667)]
    assert [line[:4] for line in lines_of("FY2026-Q1", subject="partner")] == [("d1", "2025-05-05", 10_000, 500)]


@db
def test_payments_of_each_kind_fall_due(tmp_path):
    """Once, three instalments on the last day of months, and a yearly one without end; an open deal's are weighed."""
    world = (
        World().deal("d1", ("2025-01-01", "w", "900.00", None)).deal("d2", ("2025-01-01", "s2", "100.00", "2025-09-01"))
    )
    world.deal("d3", ("2025-01-01", "l", "100.00", None))
    world.deal("d4", ("2025-01-01", "s1", "100.00", "2025-09-01", {"category_id": "left_out"}))
    world.add("payments", deal_id="d1", due_on="2025-05-15", amount="100.00")
    world.add("payments", deal_id="d1", due_on="2025-05-31", amount="200.00", every="month", times=3)
    world.add("payments", deal_id="d1", due_on="2024-06-01", amount="50.00", every="year")
    for deal in ("d2", "d3", "d4"):
        world.add("payments", deal_id=deal, due_on="2025-06-10", amount="33.33")
    world.read(tmp_path)
    book = books.current()
    snapshot = book.as_of(date(2025, 5, 1))
    months = tuple(book.reference.fiscal.part(2026, "month", n) for n in (2, 3, 4))
    found = cash_calendar(snapshot, payments_in(book, snapshot, book.attributes.plans(), months, Filter()), months)
    assert [(row.won, row.open) for row in found] == [
        ((10_000, 20_000, 0), (0, 0, 0)),
        ((0, 20_000, 5_000), (1_666, 0, 0)),
        ((0, 20_000, 0), (0, 0, 0)),
    ]
    assert CashPeriod(months[0], (1, 2, 3), (4, 5, 6)).all_minor == 21


@given(st.lists(st.one_of(st.none(), st.integers(0, 9)), max_size=30))
def test_places_are_shared_and_passed_over(values):
    """As many stand before a place as are greater; who has no value has no place."""
    for value, place in zip(values, ranks(values), strict=True):
        greater = [other for other in values if other is not None and value is not None and other > value]
        assert place == (None if value is None else len(greater) + 1)


@given(DAYS, st.integers(1, 12), st.sampled_from(("week", "month", "quarter", "year")))
def test_a_part_is_never_held_against_a_longer_one(day, start_month, kind):
    """Both spans begin at the start of their period and the one before never reaches into this one; none yet meets none."""
    period = FiscalCalendar(start_month).containing(day, kind)
    assert same_days(FiscalCalendar(start_month), period, period.starts_on - timedelta(days=1)) == (period, None)
    now, then = same_days(FiscalCalendar(start_month), period, day)
    assert now.starts_on == period.starts_on
    assert then.ends_on < now.starts_on
    assert then.starts_on <= then.ends_on
    if day < period.ends_on and kind != "week":
        assert abs(now.days - then.days) <= 3
    this, last = same_days(FiscalCalendar(start_month), period, day, YEAR)
    if kind == "week":
        assert (last.days, last.starts_on.weekday()) == (this.days, this.starts_on.weekday()), "the same weekdays"
    else:
        assert (last.starts_on, last.ends_on) == (year_before(this.starts_on), year_before(this.ends_on))
    assert abs(this.days - last.days) <= 1


@given(DAYS, st.integers(0, 10**12), st.integers(1, 400))
def test_what_is_needed_closes_the_gap(day, gap, length):
    """Needed a week × remaining weeks is the gap, but for rounding; the pace of a whole period is itself."""
    fiscal = FiscalCalendar(1)
    period = fiscal.parse(f"{day}/{day + timedelta(days=length)}")
    days = DaysOf.at(period, day)
    needed = days.needed_per_week(gap)
    if gap:
        assert abs(needed * days.remaining - gap * 7) <= days.remaining
    assert DaysOf.at(period, period.ends_on).at_todays_pace(gap) == gap
    assert days.passed + days.remaining == period.days


@given(
    st.lists(st.tuples(st.integers(1, 100), st.integers(0, 10_000)), max_size=6, unique_by=lambda row: row[0]),
    st.integers(0, 120),
)
def test_the_last_rate_not_after_a_day_holds(rows, day):
    ordered = tuple(sorted(rows))
    held = [rate for from_day, rate in ordered if from_day <= day]
    assert rate_on(ordered, day) == (held[-1] if held else ordered[0][1] if ordered else None)


@given(DAYS, DAYS, st.sampled_from(("week", "month", "quarter", "year")))
def test_the_like_period_holds_its_day(day, other, kind):
    fiscal = FiscalCalendar(4)
    period = fiscal.containing(other, kind)
    found = like(fiscal, day, period)
    assert found.starts_on <= day <= found.ends_on
    assert found.kind == kind
    span = fiscal.parse(f"{min(day, other)}/{max(day, other)}")
    assert like(fiscal, day, span) == span
    assert like(fiscal, span.ends_on + timedelta(days=1), span).kind == "quarter"


def test_a_change_needs_both_sides():
    assert (change_of(5, 3), change_of(None, 3), change_of(5, None)) == (2, None, None)
