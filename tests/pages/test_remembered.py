"""What a selection's pages computed is there for the next one, and gone with whatever is written."""

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from django.contrib.auth.models import User
from django.db import transaction
from django.test import Client

from tests.support.answers import text
from tests.support.world import World
from wise_tally.book.store import books
from wise_tally.domain.deals.models import DealRevision, Lead
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Person, Role
from wise_tally.web.deal_columns import open_contacts
from wise_tally.web.filter_line import scope_of
from wise_tally.web.lead_rows import lead_rows
from wise_tally.web.remembered import MOST_SELECTIONS

pytestmark = pytest.mark.django_db(transaction=True)
CHIEF = Viewer("chief", "Chief", Role.ADMIN, ())
OPEN = ("2026-10-01", "s2", "700.00", "2026-12-15", {"owner_id": "a"})


@pytest.fixture
def world(tmp_path):
    books.forget()
    world = World()
    world.deal("d1", OPEN)
    world.read(tmp_path)
    yield world
    books.forget()


def cache(**asked):
    return scope_of(CHIEF, asked).cache


def test_the_same_selection_finds_what_was_computed_until_something_is_written(world):
    whole, one = cache(), cache(who="person:a")
    assert cache() is whole
    assert cache(who="person:a") is one is not whole
    assert cache(period="FY2027-Q1") is not whole
    line = scope_of(CHIEF, {})
    assert replace(line, snapshot=replace(line.snapshot)).cache is not whole, "supposed changes have their own"
    firm = line.firm.cache
    assert scope_of(CHIEF, {"who": "person:a", "period": "FY2027-Q1"}).firm.cache is firm is not whole, (
        "one for all choices"
    )
    assert scope_of(CHIEF, {"as_of": "2026-11-01"}).firm.cache is not firm
    audit(CHIEF, "note added", "n1", datetime(2026, 11, 23, tzinfo=UTC))
    assert cache() is not whole
    with transaction.atomic():
        assert cache() is not cache(), "what may be taken back is not remembered"


def test_only_the_last_used_selections_are_remembered(world):
    first, second = cache(as_of="2026-11-01"), cache(as_of="2026-11-02")
    for day in range(3, MOST_SELECTIONS + 2):
        cache(as_of=f"2026-11-{day:02}")
        assert cache(as_of="2026-11-01") is first
    assert cache(as_of="2026-11-02") is not second


def test_an_activity_planned_for_today_is_due_on_the_next_page(world):
    """It changes nothing of the book, so its number stays."""
    Person.objects.create(key="chief", name="Chief", role="admin", user=User.objects.create(username="chief"))
    client = Client()
    client.force_login(User.objects.get(username="chief"))
    assert "Ring the customer" not in text(client.get("/today/"))
    number = books.current().revision_number
    planned = {"deal": "d1", "kind": "phone", "subject": "Ring the customer", "planned": "on", "on": "2026-11-23"}
    assert client.post("/customers/activities/", planned).status_code == 302
    assert books.current().revision_number == number
    assert "Ring the customer" in text(client.get("/today/"))


def test_what_was_read_of_leads_and_contacts_outlives_a_deals_next_state_and_nothing_else(world):
    def leads():
        return lead_rows(scope_of(CHIEF, {}), Lead.objects.all())[1]

    def silent():
        return open_contacts(scope_of(CHIEF, {}))[1].tolist()

    Person.objects.create(key="chief", name="Chief", role="admin", user=User.objects.create(username="chief"))
    client, first, before = Client(), leads(), silent()
    client.force_login(User.objects.get(username="chief"))
    last = {"revision": DealRevision.objects.get().pk, "edited": "amount"}
    assert client.post("/deals/d1/change/", last | {"amount": "900"}).status_code == 302
    assert books.current().as_of(date(2026, 11, 23)).amount_minor.tolist() == [90000]
    assert leads() is first
    assert client.post("/customers/leads/new/", {"name": "Weir", "status": "new", "owner": ""}).status_code == 302
    assert len(leads().created_at) == len(first.created_at) + 1
    told = {"deal": "d1", "kind": "phone", "subject": "Rang", "on": "2026-11-23", "at": "08:00"}
    assert client.post("/customers/activities/", told).status_code == 302
    assert silent() < before
