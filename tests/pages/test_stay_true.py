"""Figures stay true: after every edit, after every edit put back, and when a past day is looked at later."""

from datetime import UTC, date, datetime
from random import Random

import pytest
from django.contrib.auth.models import User
from django.test import Client

from tests.support.cut import cut_package
from tests.support.edits import Clock, Editor
from tests.support.random_world import random_world
from tests.support.seeds import seeds
from tests.support.tables import contents, differing, every_table, figures_of, fresh_process, some_tables, table_pages
from wise_tally.book.store import books
from wise_tally.demo.build import write_demo
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.models import Person
from wise_tally.package.reading import read_package

pytestmark = pytest.mark.django_db
START = datetime(2026, 1, 14, 9, tzinfo=UTC)
DAYS = (START.date(), date(2025, 12, 31), date(2025, 8, 15), date(2025, 3, 2))
# Of the hundreds of tables so many are compared in each run; the slow test compares all.
SOME = 30


@pytest.fixture
def world(tmp_path, monkeypatch):
    """A random world with quotas, products, payments and calls, its clock, and an administrator's browser."""

    def make(seed):
        random, made = Random(f"true{seed}"), random_world(seed, 40)
        made.add("people", person_id="boss", name="Boss", role="admin")
        for product, group in (("p1", "Gauges"), ("p2", None)):
            made.add("products", product_id=product, name=product, product_group=group)
        for row in made.tables["deals"][::2]:
            made.add("deal_lines", deal_id=row["deal_id"], product_id=random.choice(("p1", "p2")), quantity="2",
                     unit_price="90.00", unit_cost="40.00")  # fmt: skip
            made.add("payments", deal_id=row["deal_id"], due_on="2026-03-01", amount="500.00")
        for person in "abc":
            made.quota("person", person, "2025-04-01", "2026-03-31", "90000.00")
            made.add("commission_rates", subject="person", subject_id=person, from_on="2024-01-01", rate="3.5")
            made.add("calls", subject="person", subject_id=person, starts_on="2025-10-01", ends_on="2025-12-31",
                     made_at="2025-11-10T09:00:00+00:00", made_by=person, amount="4000.00")  # fmt: skip
        made.read(tmp_path)
        user = User.objects.create(username="boss")
        Person.objects.filter(key="boss").update(user=user)
        client = Client()
        clock = Clock(monkeypatch, START)
        client.force_login(user)
        return Editor(client, random, clock)

    return make


def compared(editor):
    """Some of the table files, with a period in which there is something."""
    addresses = some_tables(editor.client, editor.random, SOME)
    return [f"{address}&period={period}" for address, period in zip(
        addresses, ("FY2026", "FY2026-Q3", "FY2026-Q4") * SOME, strict=False
    )]  # fmt: skip


@pytest.mark.parametrize("seed", seeds(1, 4))
def test_tables_after_edits_are_those_of_a_fresh_process(seed, world):
    """Edits, some put back, tables read between them; then all again in a process that saw none of it."""
    editor = world(seed)
    addresses = compared(editor)
    for _ in range(4):
        contents(editor.client, editor.random.sample(addresses, 25), DAYS[:2])
        for _ in range(editor.random.choice((1, 3))):
            deal = editor.any_deal()
            editor.clock.later(minutes=editor.random.randrange(1, 300))
            if editor.change(deal) and editor.random.random() < 0.3:
                editor.put_back(deal)
    days = (editor.clock.at.date(), *DAYS[1:])
    kept = contents(editor.client, addresses, days)
    fresh_process()
    assert differing(kept, contents(editor.client, addresses, days)) == []


@pytest.mark.parametrize("seed", seeds(1, 4))
def test_what_is_put_back_within_the_hour_has_never_been(seed, world):
    """Changes of random deals, one on another, put back one by one: every table is that of before, as of every day."""
    editor = world(seed)
    addresses = compared(editor)
    before = contents(editor.client, addresses, DAYS)
    rows = DealRevision.objects.filter(void=False).count()
    for _ in range(10):
        deal = editor.any_deal()
        made = [editor.change(deal) for _ in range(editor.random.choice((1, 1, 3)))]
        editor.clock.later(minutes=editor.random.randrange(1, 3))
        for _ in filter(None, made):
            editor.put_back(deal)
    assert DealRevision.objects.filter(void=True).count() > 12
    assert DealRevision.objects.filter(void=False).count() == rows
    assert differing(before, contents(editor.client, addresses, DAYS)) == []
    fresh_process()
    assert differing(before, contents(editor.client, addresses, DAYS)) == []


@pytest.mark.slow
def test_all_tables_of_the_demo_after_edits(demo, sign_in, monkeypatch):
    """The same over the demo with every table there is."""
    client = sign_in("a1")
    clock = Clock(monkeypatch, datetime(2026, 11, 23, 9, tzinfo=UTC))
    editor = Editor(client, Random(7), clock)
    addresses = every_table(client)
    days = (date(2026, 11, 23), date(2026, 11, 20), date(2026, 10, 1), date(2026, 3, 31))
    contents(client, addresses, days[:1])
    for key in ("d0004", "d0900", "d9001"):
        deal = Deal.objects.get(key=key)
        clock.later(minutes=5)
        amount = {"revision": deal.revisions.latest("pk").pk, "edited": "amount", "amount": f"{clock.at.minute}7.00"}
        assert editor.client.post(f"/deals/{key}/change/", amount).status_code == 302
        contents(client, addresses, days[1:2])
    editor.put_back(deal)
    kept = contents(client, addresses, days)
    fresh_process()
    assert differing(kept, contents(client, addresses, days)) == []


def test_a_running_period_is_compared_with_as_many_days(demo, sign_in):
    """Losses, conversion and velocity of the running quarter against 1 Jul to 23 Aug; a quarter that is over against a whole one."""
    client = sign_in("m1")
    snapshot = books.current().as_of(date(2026, 11, 23))
    process = books.current().deals.process[snapshot.deal] == 0

    def lost_between(first, last):
        inside = (snapshot.closed_on >= first.toordinal()) & (snapshot.closed_on <= last.toordinal())
        return int((process & (snapshot.kind == 2) & inside).sum())

    for period, before in (("FY2027-Q3", (date(2026, 7, 1), date(2026, 8, 23))),
                           ("FY2027-Q2", (date(2026, 4, 1), date(2026, 6, 30)))):  # fmt: skip
        page = client.get(f"/conversion/loss-reasons/?process=new_site&period={period}")
        assert page.context["whole"].deals_before == lost_between(*before)
    running = "1 Jul 2026 to 23 Aug 2026"
    lost = client.get("/conversion/loss-reasons/?period=FY2027-Q3").content.decode()
    assert (running in lost, "1 Oct 2026 to 23 Nov 2026" in lost) == (True, True)
    assert running in client.get("/conversion/?period=FY2027-Q3&against=before").content.decode()
    assert running in client.get("/conversion/monthly-trend/?period=FY2027-Q3").content.decode()
    months = client.get("/conversion/monthly-trend/").context["series"]
    assert all(series.cells[-1].unusual is None for series in months), (
        "the running month is not held against whole ones"
    )


# Pages without a table file of their own, or about one thing.
FURTHER = (
    "/today/",
    "/deals/d9001/",
    "/team/",
    "/team/one-to-ones/",
    "/team/one-to-ones/r08/",
    "/customers/account/ac001/",
)


def later_looked_back(tables, tmp_path, monkeypatch):
    """Table files and figures of pages on 6 November, with what had happened by then; and as of that day, weeks later."""
    day, later = date(2026, 11, 6), date(2026, 11, 23)
    whole = tmp_path / "whole"
    whole.mkdir()
    write_demo(whole, later)
    monkeypatch.setenv("WISE_TALLY_TODAY", day.isoformat())
    read_package(cut_package(whole, tmp_path / "cut", day), datetime(2026, 11, 6, 12, tzinfo=UTC))
    client = Client()
    client.force_login(User.objects.create(username="a1"))
    Person.objects.filter(key="a1").update(user=User.objects.get(username="a1"))
    addresses = [f"{address}&period={period}" for address in tables(client) for period in ("FY2027-Q3", "FY2027")]
    pages = (*table_pages(), *FURTHER)
    then = contents(client, addresses, (day,)) | figures_of(client, pages, day)
    monkeypatch.setenv("WISE_TALLY_TODAY", later.isoformat())
    read_package(whole, datetime(2026, 11, 23, 12, tzinfo=UTC))
    fresh_process()
    return then, contents(client, addresses, (day,)) | figures_of(client, pages, day)


def test_a_past_day_shows_what_it_showed(db, tmp_path, monkeypatch):
    """Every page's figures and main table; undated things that were there already are the same in both."""
    then, now = later_looked_back(lambda client: [f"{path}table.csv?" for path in table_pages()], tmp_path, monkeypatch)
    assert sum(len(found) for found in then.values() if isinstance(found, list)) > 2_000
    assert differing(then, now) == []


@pytest.mark.slow
def test_a_past_day_shows_what_it_showed_in_every_table(db, tmp_path, monkeypatch):
    """The same with every table of every variant of every page."""
    then, now = later_looked_back(every_table, tmp_path, monkeypatch)
    assert differing(then, now) == []
