"""Dated rows keep the past; writers do not tread on one another; readers never see an old figure."""

import threading
from datetime import UTC, date, datetime, timedelta
from random import Random

import pytest
from django.core.exceptions import PermissionDenied
from django.db import connection

from tests.support.world import World, ask, moment
from wise_tally.book.store import books
from wise_tally.domain.deals.actions import DealState, OldState, StageRefused, change_deal, last_revision, set_credits
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.revert import revert
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.models import Person, Team, Territory
from wise_tally.domain.org.people_actions import move_person, move_team, move_territory
from wise_tally.domain.process.actions import StageEdit, set_stages
from wise_tally.domain.process.models import Category, Stage
from wise_tally.domain.process.stage_actions import order_stages
from wise_tally.domain.targets.actions import QuotaCell, QuotaChanged, QuotaOverlaps, set_quotas
from wise_tally.package.reading import read_package
from wise_tally.package.writing import write_package

ADMIN = Viewer("m", "M", "admin", ())
REP = Viewer("a", "A", "rep", ())
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
TODAY = NOW.date()
LAST_QUARTER, THEN = "FY2027-Q2", "2026-09-30"


def a_world():
    world = World()
    for number, owner in enumerate("abca"):
        person = {"owner_id": owner, "territory_id": "y"}
        world.deal(f"d{number}", ("2026-07-01", "s1", 1000 + number, "2026-09-15", person))
        world.deal(
            f"w{number}", ("2026-07-01", "s2", 500, None, person), ("2026-08-01", "w", 500 + number, None, person)
        )
    world.quota("person", "b", "2026-07-01", "2026-07-31", "100.00")
    return world


def all_figures():
    """Every figure of last quarter as it stood then."""
    by = ("company", "team", "person", "territory")
    return [
        ask(f, LAST_QUARTER, THEN, by=b) for f in ("forecast", "attainment", "conversion", "time-in-stage") for b in by
    ]


def change_everything():
    """One change of each dated thing, today."""
    team, other = Team.objects.get(key="t1"), Team.objects.get(key="t2")
    move_person(ADMIN, Person.objects.get(key="b"), team, TODAY, NOW)
    move_team(ADMIN, other, None, TODAY, NOW)
    move_territory(ADMIN, Territory.objects.get(key="y"), None, TODAY, NOW)
    stage = Stage.objects.get(key="s1")
    set_stages(ADMIN, [StageEdit(stage, "one", 9_000, Category.objects.get(key="commit"), 100)], TODAY, NOW)
    set_quotas(
        ADMIN,
        books.current().reference,
        [QuotaCell("person", "b", date(2026, 7, 1), date(2026, 7, 31), 99_900, 10_000)],
        NOW,
    )
    a, c = (Person.objects.get(key=key) for key in "ac")
    set_credits(ADMIN, books.current().reference, Deal.objects.get(key="d1"), {a: 2_500, c: 7_500}, TODAY, NOW)
    deal = Deal.objects.get(key="d0")
    state = DealState(Stage.objects.get(key="s3"), 7, date(2027, 1, 1), None)
    change_deal(ADMIN, books.current().reference, deal, last_revision(deal).pk, state, "", NOW)


@pytest.mark.django_db
def test_changes_of_today_leave_last_quarter_as_it_stood(tmp_path):
    a_world().read(tmp_path / "in")
    before = all_figures()
    today_before = ask("forecast", LAST_QUARTER, TODAY.isoformat(), by="person")
    change_everything()
    assert all_figures() == before
    after = ask("forecast", LAST_QUARTER, TODAY.isoformat(), by="person")
    assert after["b"]["quota"] == "999.00"
    assert after["c"]["open"] != today_before["c"]["open"]
    assert after["c"]["weighted_open"] != today_before["c"]["weighted_open"]
    write_package(tmp_path / "out", NOW)
    from tests.interfaces.test_exchange import empty_database

    empty_database()
    read_package(tmp_path / "out", NOW)
    assert all_figures() == before
    assert ask("forecast", LAST_QUARTER, TODAY.isoformat(), by="person") == after


@pytest.mark.django_db
def test_stage_rules_of_a_later_day_wait_and_order_is_kept(tmp_path):
    World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01")).read(tmp_path)
    stage = Stage.objects.get(key="s1")
    tomorrow = TODAY + timedelta(days=1)
    set_stages(ADMIN, [StageEdit(stage, "renamed", 5_000, stage.category, None)], tomorrow, NOW)
    assert ask("forecast", "FY2027", TODAY.isoformat())[""]["weighted"] == "100.00"
    assert ask("forecast", "FY2027", tomorrow.isoformat())[""]["weighted"] == "500.00"
    order_stages(ADMIN, stage.process, ["s2", "s1", "s3"], NOW)
    assert [s for s in ask("time-in-stage", "FY2027", TODAY.isoformat()) if s != "scope"] == ["s2", "s1", "s3"]


@pytest.mark.django_db
def test_quotas_are_refused_on_an_old_state_or_an_overlap(tmp_path):
    a_world().read(tmp_path)
    with pytest.raises(QuotaChanged) as changed:
        set_quotas(
            ADMIN,
            books.current().reference,
            [QuotaCell("person", "b", date(2026, 7, 1), date(2026, 7, 31), 1, 555)],
            NOW,
        )
    assert changed.value.now == 10_000
    with pytest.raises(QuotaOverlaps, match="overlaps this period"):
        set_quotas(
            ADMIN,
            books.current().reference,
            [QuotaCell("person", "b", date(2026, 7, 1), date(2026, 9, 30), 1, None)],
            NOW,
        )
    with pytest.raises(PermissionDenied):
        set_quotas(REP, books.current().reference, [], NOW)


@pytest.mark.django_db
def test_revisions_are_added_never_altered_and_refused_on_an_old_state(tmp_path):
    a_world().read(tmp_path)
    deal, reference = Deal.objects.get(key="d0"), books.current().reference
    rows = list(DealRevision.objects.order_by("pk").values_list())
    seen = last_revision(deal).pk
    state = DealState(Stage.objects.get(key="s2"), 5, None, None)
    change_deal(REP, reference, deal, seen, state, "", NOW)
    assert list(DealRevision.objects.order_by("pk").values_list())[: len(rows)] == rows
    with pytest.raises(OldState):
        change_deal(REP, reference, deal, seen, DealState(state.stage, 6, None, None), "", NOW)
    other = Stage.objects.create(
        key="o", name="o", process=deal.process, position=9, kind="open", probability_bp=0, retired=True
    )
    with pytest.raises(StageRefused, match="retired"):
        change_deal(REP, reference, deal, last_revision(deal).pk, DealState(other, 6, None, None), "", NOW)
    with pytest.raises(PermissionDenied, match="somebody else"):
        change_deal(REP, reference, Deal.objects.get(key="d1"), 0, state, "", NOW)


@pytest.mark.django_db(transaction=True)
def test_of_two_simultaneous_writers_one_is_told(tmp_path):
    """Both saw the same state; one revision is written, the other is refused with the new state."""
    a_world().read(tmp_path)
    deal, reference = Deal.objects.get(key="d0"), books.current().reference
    seen, stage = last_revision(deal).pk, Stage.objects.get(key="s2")
    start, results = threading.Barrier(2), []

    def write(amount):
        start.wait()
        try:
            change_deal(REP, reference, deal, seen, DealState(stage, amount, None, None), "", NOW)
            results.append("written")
        except OldState as old:
            results.append(old.now.amount_minor)
        finally:
            connection.close()

    threads = [threading.Thread(target=write, args=(amount,)) for amount in (1, 2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert DealRevision.objects.filter(deal=deal).count() == 2
    assert sorted(map(str, results)) in (["1", "written"], ["2", "written"])


@pytest.mark.django_db
def test_the_shelf_takes_only_what_is_new_and_equals_a_fresh_reading(tmp_path):
    a_world().read(tmp_path)
    first = books.stored()
    assert books.stored() is first, "an unchanged book is not read again"
    deal = Deal.objects.get(key="d2")
    for amount in (7, 8):
        state = DealState(Stage.objects.get(key="s3"), amount, date(2026, 12, 1), None)
        change_deal(ADMIN, books.current().reference, deal, last_revision(deal).pk, state, "", NOW)
        appended = ask("forecast", "FY2027", TODAY.isoformat(), by="person")
        stays = ask("time-in-stage", "FY2027", TODAY.isoformat(), by="person")
        earlier = [ask(f, "FY2027", "2026-11-16", by="person") for f in ("forecast", "conversion", "days-to-win")]
        books.forget()
        assert [
            ask(f, "FY2027", "2026-11-16", by="person") for f in ("forecast", "conversion", "days-to-win")
        ] == earlier
        assert ask("forecast", "FY2027", TODAY.isoformat(), by="person") == appended
        assert ask("time-in-stage", "FY2027", TODAY.isoformat(), by="person") == stays
    assert appended["c"]["open"] == "0.08"


@pytest.mark.django_db
def test_reasons_are_read_on_as_the_book_grows_and_equal_a_loop(tmp_path):
    """Deals lost, opened again, lost for another reason or none, in random order, today and at a past day."""
    a_world().read(tmp_path)
    random, deals = Random(5), list(Deal.objects.order_by("pk"))
    stages = [Stage.objects.get(key=key) for key in ("s1", "l", "l", "w")]
    place = Territory.objects.get(key="y")
    for step in range(60):
        deal, stage = random.choice(deals), random.choice(stages)
        DealRevision.objects.create(
            deal=deal,
            stage=stage,
            amount_minor=5,
            owner=Person.objects.get(key="a"),
            territory=place,
            effective_at=NOW - timedelta(days=60 - step),
            lost_reason=random.choice(("", "price", "went elsewhere")) if stage.kind == "lost" else "",
        )
        revisions_added()
        for day in (TODAY, TODAY - timedelta(days=20)):
            book, reasons = books.current(), books.lost_reasons()
            snapshot = book.as_of(day)
            names = [*reasons.names, ""]
            found = {book.deals.key[d]: names[r] for d, r in zip(snapshot.deal, reasons.on(snapshot), strict=True)}
            cut = datetime.fromtimestamp(snapshot.cut, UTC)
            rows = DealRevision.objects.filter(effective_at__lt=cut).order_by("pk")
            assert found == dict(rows.values_list("deal__key", "lost_reason"))


@pytest.mark.django_db
def test_a_change_put_back_leaves_a_short_form_deal_short_form(tmp_path):
    """Stays, export and the book are those of before, in the process that saw it and in a fresh one."""
    world = World()
    world.add("deals", deal_id="d1", name="d1", process_id="p", created_at=moment("2025-04-02"), stage_id="s2",
              amount="10.00", owner_id="a")  # fmt: skip
    world.read(tmp_path / "in")
    deal, reference = Deal.objects.get(), books.current().reference
    write_package(tmp_path / "before", NOW)
    state = DealState(Stage.objects.get(key="s3"), 2_000, None, None)
    made = change_deal(ADMIN, reference, deal, last_revision(deal).pk, state, "", NOW)
    assert not books.current().deals.short_form[0]
    revert(ADMIN, reference, deal, made.pk, NOW)
    for _ in range(2):
        book = books.current()
        assert (book.deals.short_form[0], len(book.stays.deal), len(book.revisions.deal)) == (True, 0, 1)
        books.forget()
    write_package(tmp_path / "after", NOW)
    for name in ("deals.csv", "deal_revisions.csv"):
        assert (tmp_path / "after" / name).read_bytes() == (tmp_path / "before" / name).read_bytes()
