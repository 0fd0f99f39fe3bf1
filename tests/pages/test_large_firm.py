"""A firm of many people: pages ask the database as often as for a few, show a page of people or fold their teams, and lose nothing."""

import gc
import weakref
from collections.abc import Iterable

import pytest
from django.contrib.auth.models import User
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from tests.support.answers import text
from tests.support.world import World
from wise_tally.book import store
from wise_tally.domain.deals.models import DealRevision
from wise_tally.domain.org.models import Person
from wise_tally.domain.targets.models import Quota, QuotaHold

pytestmark = pytest.mark.django_db
PAGES = (
    "/brief/",
    "/brief/findings/",
    "/team/one-to-ones/",
    "/team/deals-by-rep/",
    "/team/contact-gaps/",
    "/attainment/?by=person",
    "/attainment/period-comparison/?by=person",
    "/attainment/commissions/",
    "/forecast/",
    "/forecast/submitted/",
    "/forecast/accuracy/",
    "/conversion/?by=person",
    "/conversion/time/?by=person",
    "/setup/quotas/",
)
TEN = 10


def firm(people: int, folder) -> Client:
    """So many reps, ten in a team, each with a won and an open deal and a quota; an administrator's browser."""
    world = World()
    for number in range(people // TEN):
        world.add("teams", team_id=f"u{number:02}", name=f"Unit {number:02}", parent_id="t1")
    for number in range(people):
        key = f"p{number:03}"
        world.add("people", person_id=key, name=f"Person {number:03}", role="rep", team_id=f"u{number // TEN:02}")
        owner = {"owner_id": key}
        world.deal(
            f"w{number:03}",
            ("2026-07-01", "s1", "900.00", "2026-10-30", owner),
            ("2026-10-20", "w", "900.00", None, owner),
        )
        world.deal(f"o{number:03}", ("2026-10-01", "s2", "700.00", "2026-12-15", owner))
        world.quota("person", key, "2026-10-01", "2026-10-31", "1000.00")
    folder.mkdir()
    world.read(folder)
    user = User.objects.create(username="chief")
    Person.objects.create(key="chief", name="Chief", role="admin", user=user)
    client = Client()
    client.force_login(user)
    return client


def queries(client: Client, pages: Iterable[str]) -> dict[str, int]:
    """How many queries each page makes, warm."""
    found = {}
    for page in pages:
        client.get(page)
        with CaptureQueriesContext(
            connection,
        ) as made:
            assert client.get(page).status_code == 200, page
        found[page] = len(made)
    return found


@pytest.mark.parametrize("people", [90])
def test_no_page_asks_more_often_for_more_people(people, tmp_path):
    few = queries(firm(20, tmp_path / "few"), PAGES)
    Person.objects.filter(key="chief").update(user=None)
    User.objects.all().delete()
    Person.objects.filter(key="chief").delete()
    many = queries(firm(people, tmp_path / "many"), PAGES)
    assert {page: number for page, number in many.items() if number > few[page] + 1} == {}


@pytest.fixture
def large(tmp_path):
    return firm(90, tmp_path / "firm")


def test_pages_of_people_are_turned_over_and_their_files_hold_all(large):
    for page, file in (("/attainment/?by=person", "/attainment/table.json?by=person"),
                       ("/team/deals-by-rep/?", "/team/deals-by-rep/table.json?")):  # fmt: skip
        first, second = large.get(page), large.get(f"{page}&page=2")
        shown = [{row.name for row in answer.context["rows"]} for answer in (first, second)]
        assert [len(names) for names in shown] == [50, 40]
        assert not shown[0] & shown[1]
        assert "page 1 of 2" in text(first)
        assert len(large.get(file).json()["rows"]) == 90
    for address in ("/attainment/?by=person", "/forecast/?rows=all"):
        assert len(text(large.get(address))) < 160_000, address
    report = "/team/report/?show=won&by=person&bucket=last_8_quarters"
    rows = [text(large.get(f"{report}&page={number}")).count('<td class="trim">Person ') for number in (1, 2)]
    week = "/team/this-week/?period=2026-W51"
    assert [len(large.get(f"{week}&page={number}").context["lines"]) for number in (1, 2)] == rows == [50, 40]
    assert len(large.get(report.replace("report/", "report/table.json")).json()["rows"]) == 90
    assert 'value="p089"' not in text(large.get("/deals/o001/")), "names are typed"


def test_the_forecast_folds_its_teams_and_opens_one_at_a_time(large):
    names = [row["row"].node.name for row in large.get("/forecast/?rows=").context["grid"]]
    assert "Unit 03" in names
    assert not [name for name in names if name.startswith("Person")]
    opened = large.get("/forecast/?open=team:u03").context["grid"]
    assert [row["row"].node.name for row in opened if row["row"].node.name.startswith("Person")] == [
        f"Person {n:03}" for n in range(30, 40)
    ]
    whole = large.get("/forecast/table.json").json()["rows"]
    assert sum(row[0].startswith("Person") for row in whole) == 90
    chosen = [row["row"].node.name for row in large.get("/forecast/?who=team:u03").context["grid"]]
    assert sum(name.startswith("Person") for name in chosen) == 10


def test_submitted_forecasts_fold_and_a_team_shows_its_people(large):
    page = large.get("/forecast/submitted/")
    assert not [row for row, _ in page.context["typed_rows"] if row.subject == "person"]
    assert "90 people in these teams" in text(page)
    assert "70 more" in text(page), "not submitted yet: the first twenty by name"
    of_team = large.get("/forecast/submitted/?who=team:u03").context["typed_rows"]
    assert sum(row.subject == "person" for row, _ in of_team) == 10
    assert len(large.get("/forecast/submitted/table.json").json()["rows"]) > 90


def test_of_many_teams_the_upper_ones_are_submitted_for(large, monkeypatch):
    """And one of them chosen shows those below it."""
    monkeypatch.setattr("wise_tally.pages.forecast.call_rows.MOST_PEOPLE", 3)
    names = [row.row.name for row, _ in large.get("/forecast/submitted/").context["typed_rows"]]
    assert names == ["Test", "One"]
    below = large.get("/forecast/submitted/?who=team:t1").context["typed_rows"]
    assert {row.row.name for row, _ in below} == {"One", "Two", *(f"Unit {n:02}" for n in range(9))}


def test_the_tree_of_teams_folds_and_keeps_in_sight_who_is_being_moved(large):
    shut = text(large.get("/setup/tree/teams/"))
    assert "10 people" in shut
    assert "Person 031" not in shut
    opened = text(large.get("/setup/tree/teams/?open=u03"))
    assert "Person 031" in opened
    assert "Person 041" not in opened
    body = {"node": "person:p041", "above": "team:u03", "from_on": "soon"}
    refused = large.post("/setup/tree/teams/", body)
    assert refused.status_code == 422
    assert '<option value="person:p041" selected>' in refused.text
    assert large.post("/setup/tree/teams/", body | {"from_on": "2026-11-23"}).status_code == 302
    assert "Person 041" in text(large.get("/setup/tree/teams/?open=u03"))


def test_of_many_teams_a_plan_shows_the_opened_one_alone(large, monkeypatch):
    address, names = "/setup/quotas/?year=2027&people=team:u03", []
    for most in (10, 8):
        monkeypatch.setattr("wise_tally.pages.setup.quotas.grid.MOST_TEAMS", most)
        lines = large.get(address).context["grid"].lines
        names.append([line.node.name for line in lines if line.node.name.startswith("Unit")])
    assert names == [[f"Unit {n:02}" for n in range(9)], ["Unit 03"]]


def test_a_folded_plan_saves_what_it_shows_and_keeps_what_it_does_not(large):
    """A value and a hold of one team's people are saved; those of another team stay as they are."""
    address = "/setup/quotas/?year=2027&people=team:u03"
    page = large.get(address)
    people = [line for line in page.context["grid"].lines if line.node.subject == "person"]
    assert [line.node.name for line in people] == [f"Person {n:03}" for n in range(30, 40)]
    form = {"holds-shown": "yes"}
    for line in page.context["grid"].lines:
        for cell in line.cells:
            form |= {f"q:{cell.name}": cell.value, f"expected:{cell.name}": cell.expected}
    form |= {"q:person:p031:2026-10-01": "1500", "h:person:p031:2026-10-01": "on"}
    assert large.post(address, form).status_code == 302
    assert Quota.objects.filter(subject_key="p031", value=150_000).exists()
    other = large.get("/setup/quotas/?year=2027&people=team:u05").context["grid"].lines
    form = {"holds-shown": "yes"}
    for line in other:
        for cell in line.cells:
            form |= {f"q:{cell.name}": cell.value, f"expected:{cell.name}": cell.expected}
    assert large.post("/setup/quotas/?year=2027&people=team:u05", form).status_code == 302
    assert QuotaHold.objects.filter(subject_key="p031").exists(), "a row that was not shown is held as before"
    sheet = large.get("/setup/quotas/sheet.csv?year=2027").content.decode()
    assert sheet.count("Person") == 90


def test_a_superseded_book_is_freed_with_the_next_answer(tmp_path, monkeypatch):
    """Python's own collector is off here: on large books it would come, but dozens of books later."""
    client = firm(TEN, tmp_path / "firm")
    monkeypatch.setattr(store, "LARGE", 0)
    body = {"stage": "s2", "expected_close": "2026-12-15", "category": "", "next": "/"}
    gc.disable()
    try:
        for amount in ("750", "760"):
            client.get("/forecast/")
            book = weakref.ref(store.books.current())
            last = DealRevision.objects.filter(deal__key="o000").latest("pk").pk
            assert client.post("/deals/o000/change/", body | {"amount": amount, "revision": last}).status_code == 302
            assert amount in text(client.get("/deals/o000/"))
            assert book() is None
    finally:
        gc.enable()
