"""From an empty database to a first forecast, through the pages alone, with the demo cut into plain tables."""

import csv
import io
from datetime import date
from html.parser import HTMLParser
from random import Random

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import URLResolver, get_resolver

from tests.conftest import TODAY
from tests.support.answers import text
from tests.support.naive import cents
from tests.support.processes import in_a_file
from tests.support.world import ask
from wise_tally.demo import firm
from wise_tally.demo.deals import deals
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org.models import Person, Team
from wise_tally.domain.process.models import Process, Stage

QUARTER = (date(2026, 10, 1), date(2026, 12, 31))


def begin(client, **typed):
    posted = {"organisation": "Ferrow & Lisk", "name": "Wilf", "username": "wilf", "password": "long enough to keep"}
    posted["time_zone"] = "Europe/Lisbon"
    return client.post("/sign-in/", posted | typed)


@pytest.mark.django_db
def test_who_comes_first_becomes_administrator_and_nobody_after(client):
    assert "Create the first account. It will be the administrator." in text(client.get("/sign-in/"))
    for typed, says in (({"password": "short"}, "at least 12"), ({"organisation": ""}, "Enter a name"),
                        ({"username": "w" * 65}, "Use at most 64 characters.")):  # fmt: skip
        refused = begin(client, **typed)
        assert refused.status_code == 422
        assert says in text(refused)
        assert not User.objects.exists()
    assert begin(client).url == "/setup/start/"
    assert '<option value="Europe/Lisbon" selected>' in text(client.get("/setup/organisation/"))
    assert client.get("/").url == "/setup/start/"
    page = text(client.get("/setup/start/"))
    assert "Still needed for a forecast: a process with stages, quotas, deals" in page
    client.logout()
    assert begin(client, username="second").status_code == 401
    assert User.objects.count() == 1


# Pages that show something else than they do without a choice.
CHOSEN = (
    "/attainment/?measure=activities&by=person",
    "/attainment/?by=product_group&measure=quantity",
    "/attainment/commissions/?of=partner",
    "/team/?board=pipeline-health",
    "/team/?board=process",
    "/team/?board=this-week",
    "/team/report/?show=won&by=person&bucket=last_12_months",
    "/team/report/?show=stage_days&by=stage",
    "/team/report/?show=open&by=source&within=deal_type",
    "/team/deals-by-rep/?along=month&show=won",
    "/deals/?view=lanes",
    "/find/?q=nobody",
)


def plain_addresses(patterns, before="/"):
    """Every address without a part that is to be filled in."""
    for one in patterns:
        path = before + str(one.pattern)
        if isinstance(one, URLResolver):
            yield from plain_addresses(one.url_patterns, path)
        elif "<" not in path and not path.startswith(("/api/", "/sign-out/")):
            yield path


@pytest.mark.django_db
@pytest.mark.parametrize("state", ["nothing", "a process", "a deal"])
def test_every_page_answers_in_a_workspace_with_hardly_anything(client, state):
    """What is not there yet is said, with what to do, never a failure."""
    begin(client)
    if state != "nothing":
        client.post("/setup/processes/", {"name": "New site", "start": "starter"})
    if state == "a deal":
        stage = Stage.objects.get(name="Offer")
        new = {
            "name": "First",
            "account": "Upper Weir",
            "owner": "wilf",
            "stage": stage.key,
            "amount": "100",
            "is_new": "on",
        }
        assert client.post("/deals/new-deal/", new).status_code == 302, "the first administrator may own deals"
    client.raise_request_exception = False
    pages = [*sorted(set(plain_addresses(get_resolver().url_patterns))), *CHOSEN]
    answers = {address: client.get(address) for address in pages}
    assert len(pages) > 100
    assert [address for address, answer in answers.items() if answer.status_code >= 500] == []
    assert {answers[address].status_code for address in CHOSEN} == {200}
    empty = text(answers["/brief/"])
    assert ("The brief says what matters as soon as there are deals." in empty) == (state != "a deal")


class Shown(HTMLParser):
    """What the forms of a page send to an address: fields with their values, and buttons."""

    def __init__(self, page, action):
        super().__init__()
        self.action, self.inside, self.fields, self.buttons = action, False, {}, []
        self.feed(page)

    def handle_starttag(self, tag, attrs):
        given = dict(attrs)
        if tag == "form":
            self.inside = given.get("action") == self.action
        elif self.inside and tag == "input":
            self.fields[given["name"]] = given.get("value", "")
        elif self.inside and tag == "button":
            self.buttons.append((given.get("name"), given.get("value")))


@pytest.mark.django_db
def test_the_guided_start_makes_a_process_with_its_own_buttons(client):
    """As the page has them, one after the other: from the template, and empty."""
    begin(client)
    shown = Shown(client.get("/setup/start/").content.decode(), "/setup/processes/")
    assert len(shown.buttons) == 2
    for (name, value), stages in zip(shown.buttons, (6, 2), strict=True):
        posted = shown.fields | {name: value, "name": f"Sales {value}"}
        assert client.post("/setup/processes/", posted).status_code == 302
        assert Process.objects.get(name=f"Sales {value}").stages.count() == stages


def table(rows, names):
    """A plain CSV with headings as another program might write them."""
    out = io.StringIO()
    csv.writer(out).writerows([list(names), *([row.get(k, "") or "" for k in names.values()] for row in rows)])
    return out.getvalue().encode()


def bring_in(client, kind, content):
    file = SimpleUploadedFile(f"{kind}.csv", content)
    answer = client.post("/setup/imports/", {"kind": kind, "file": file}, follow=True)
    matching = answer.context["matching"]
    posted = {f"c:{name}": heading for name, heading in matching.columns.items()}
    posted |= {"dates": "ymd", "numbers": "plain", "process": matching.process, "make_accounts": "on", "take": "yes"}
    done = client.post(answer.redirect_chain[-1][0], posted, follow=True)
    assert "Imported." in text(done), text(done)


def demo_tables():
    """The demo's present state in plain rows: names instead of identifiers, no history."""
    random = Random(20_260_401)
    accounts = firm.accounts(random)
    all_deals, revisions, _ = deals(random, TODAY, accounts)
    people = {row["person_id"]: row for row in firm.people(TODAY)[0]}
    stages = {row["stage_id"]: row for row in firm.stages(TODAY)[0]}
    last = {row["deal_id"]: row for row in revisions}
    rows = []
    for deal in all_deals:
        state = last[deal["deal_id"]]
        if deal["process_id"] == "new_site":
            more = {"stage": stages[state["stage_id"]]["name"], "owner": people[state["owner_id"]]["name"]}
            closed = state["effective_at"] if stages[state["stage_id"]]["kind"] != "open" else ""
            rows.append({**deal, **state, **more, "closed": closed})
    return people, stages, accounts, rows


@pytest.mark.django_db
def test_a_first_forecast_from_plain_tables(client, tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    begin(client)
    people, stages, accounts, rows = demo_tables()
    page = {"organisation": "F", "currency": "EUR", "time_zone": "Europe/Dublin", "fiscal_year_start_month": "4"}
    assert client.post("/setup/organisation/", page).status_code == 302
    client.post("/setup/processes/", {"name": "New site", "start": "empty"})
    process = Process.objects.get()
    for stage in stages.values():
        if stage["process_id"] == "new_site" and stage["kind"] == "open":
            posted = {
                "what": "add",
                "name": stage["name"],
                "kind": "open",
                "probability": stage["probability"],
                "category": stage["category_id"],
            }
            client.post(f"/setup/stages/{process.key}/", posted)
    assert Stage.objects.filter(kind="open").count() == 5
    client.post("/setup/start/", {"teams": "North\n  Fells\n  Lakes\nSouth\n"})
    assert Team.objects.get(name="Lakes").parent == Team.objects.get(name="North")
    lines = [f"{row['name']}, {row['email']}, Fells, {row['role']}" for row in people.values()]
    wrong = client.post("/setup/start/", {"people": "\n".join([*lines, "Xan, x@y.zz, Moon"])})
    assert wrong.status_code == 422
    assert f"Line {len(lines) + 1}: The team “Moon” does not exist." in text(wrong)
    assert Person.objects.count() == 1, "all or nothing"
    client.post("/setup/start/", {"people": "\n".join(lines)})
    assert Person.objects.count() == 1 + len(people)
    bring_in(client, "accounts", table(accounts, {"Account ID": "account_id", "Customer": "name"}))
    headings = {"Deal": "name", "Customer": "account_id", "Rep": "owner", "Stage": "stage", "Amount": "amount",
                "Expected close": "expected_close", "Created": "created_at", "Closed": "closed"}  # fmt: skip
    bring_in(client, "deals", table(rows, headings))
    assert Deal.objects.count() == len(rows) > 500
    expected = won = 0
    for row in rows:
        kind, close = stages[row["stage_id"]]["kind"], row.get("expected_close") or ""
        inside = close and QUARTER[0] <= date.fromisoformat(close) <= QUARTER[1]
        expected += cents(row["amount"]) if kind == "open" and inside else 0
        closed = date.fromisoformat(row["closed"][:10]) if kind == "won" else date.min
        won += cents(row["amount"]) if QUARTER[0] <= closed <= QUARTER[1] else 0
    found = ask("forecast", "FY2027-Q3", TODAY.isoformat())[""]
    assert (cents(found["open"]), cents(found["won"])) == (expected, won)
    assert expected > 0
    assert won > 0
    assert "Still needed for a forecast: quotas." in text(client.get("/setup/start/"))


@in_a_file
@pytest.mark.django_db(transaction=True)
def test_looking_around_fills_an_empty_workspace_and_the_backup_empties_it(client, tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    begin(client)
    assert client.post("/setup/imports/look-around/").url == "/forecast/"
    assert Deal.objects.count() > 1_000
    assert client.post("/setup/imports/look-around/").status_code == 409
    (name,) = [path.name for path in (tmp_path / "backups").iterdir()]
    client.post("/setup/backups/", {"what": "restore", "name": name, "confirmed": "yes"})
    assert not Deal.objects.exists()


PASTED = "Role\tName\tE-mail\nManager\tAda Weir\tada@firm.example\nrep\tBen Lake\t\n"
NONSENSE = [
    ("Ada Weir; ada@firm", "“ada@firm” is not an e-mail address."),
    ("12; x@firm.example", "“12” is not a name."),
    ("x@firm.example", "“x@firm.example” is not a name."),
    ("Ada; ada@firm.example; ; boss", "“boss” is not a role."),
    ("Ada\nBen\nada", "This name appears twice."),
    ("Ada, a@firm.example\nBen, A@firm.example", "Somebody else has the e-mail address A@firm.example."),
    ("Ada, , , rep, more", "There are more than 4 columns."),
    ("x" * 900_000, "Use at most 200 characters."),
]


@pytest.mark.django_db
def test_people_pasted_from_a_spreadsheet_are_shown_before_they_are_added(client):
    begin(client)
    address = "/setup/start/"
    shown = client.post(address, {"people": PASTED, "preview": "yes"})
    assert shown.status_code == 200
    assert [(one.line, one.name, one.role) for one in shown.context["people"]] == [
        (2, "Ada Weir", "manager"),
        (3, "Ben Lake", "rep"),
    ]
    assert Person.objects.count() == 1
    assert client.post(address, {"people": PASTED}).status_code == 302
    assert Person.objects.get(name="Ada Weir").email == "ada@firm.example"
    again = client.post(address, {"people": PASTED + "admin\tCleo Ford\t\n"}, follow=True)
    assert "1 added, 2 were there already." in text(again)


@pytest.mark.django_db
@pytest.mark.parametrize(("typed", "says"), NONSENSE)
def test_nonsense_never_becomes_a_person(client, typed, says):
    begin(client)
    answer = client.post("/setup/start/", {"people": typed})
    assert answer.status_code == 422
    assert says in text(answer)
    assert Person.objects.count() == 1
