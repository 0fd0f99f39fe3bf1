"""The calendar at a private address and contacts as vCards, read back by a general-purpose parser.

Formats: RFC 5545 (iCalendar) and RFC 6350 (vCard); read with the library vobject.
"""

from datetime import UTC, date, datetime

import pytest
import vobject
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.support.answers import text
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Account, Activity, Contact, Deal
from wise_tally.domain.org.models import ApiToken, Person

pytestmark = pytest.mark.django_db


def entries(answer):
    """The events of a calendar by their lasting names."""
    calendar = vobject.readOne(answer.content.decode())
    return {event.uid.value.split("@")[0]: event for event in calendar.vevent_list}


def test_a_calendar_holds_what_its_person_has_planned_and_nothing_of_others(demo, sign_in, client):
    rep = sign_in("r08", apart=True)
    page = text(rep.post("/tokens/", {"use": "calendar"}))
    address = "/calendar/" + page.split("/calendar/")[1].split(".ics")[0] + ".ics"
    Deal.objects.filter(key="d9001").update(next_step_on=date(2026, 12, 1))
    about = {"person": Person.objects.get(key="r08"), "deal": Deal.objects.get(key="d9001"), "status": "planned"}
    Activity.objects.create(
        key="x1", kind="phone", at=datetime(2026, 12, 2, 9, 30, tzinfo=UTC), subject="Ring; then, write", **about
    )
    Activity.objects.create(key="x2", kind="task", at=datetime(2026, 12, 3, 12, tzinfo=UTC), subject="All day", **about)
    answer = client.get(address)
    assert answer["Content-Type"].startswith("text/calendar")
    found = entries(answer)
    closes = {f"close-{deal.key}": last_revision(deal) for deal in Deal.objects.all()}
    closes = {
        k: r.expected_close
        for k, r in closes.items()
        if r.owner.key == "r08" and r.stage.kind == "open" and r.expected_close
    }
    assert {key: event.dtstart.value for key, event in found.items() if key.startswith("close-")} == closes
    assert found["step-d9001"].dtstart.value == date(2026, 12, 1)
    call, task = found["activity-x1"], found["activity-x2"]
    assert (call.dtstart.value, call.summary.value) == (
        datetime(2026, 12, 2, 9, 30, tzinfo=UTC), "Phone call: Ring; then, write, Barrage network, Orrin Upper Water Board",
    )  # fmt: skip
    assert task.dtstart.value == date(2026, 12, 3)
    assert call.url.value.endswith("/deals/d9001/")
    owners = {
        last_revision(Deal.objects.get(key=key.split("-", 1)[1])).owner.key
        for key in found
        if key.startswith(("close", "step"))
    }
    assert owners == {"r08"}


def test_a_calendar_address_opens_the_calendar_alone_until_it_is_taken_back(demo, sign_in, client):
    rep = sign_in("r08", apart=True)
    token = text(rep.post("/tokens/", {"use": "calendar"})).split("/calendar/")[1].split(".ics")[0]
    given = text(rep.post("/tokens/", {"name": "sheet"})).split('<code class="token">')[1].split("<")[0]
    asked = {"HTTP_AUTHORIZATION": f"Bearer {token}"}
    assert client.get("/api/deals", **asked).status_code == 401, "no token of the interface"
    assert client.get(f"/calendar/{given}.ics").status_code == 404, "and the other way round"
    assert client.get("/calendar/guessed.ics").status_code == 404
    made = ApiToken.objects.get(use="calendar")
    assert token not in made.digest
    assert client.get(f"/calendar/{token}.ics").status_code == 200
    Person.objects.filter(key="r08").update(active_to=date(2026, 11, 20))
    assert client.get(f"/calendar/{token}.ics").status_code == 404, "who has left reads no more"
    Person.objects.filter(key="r08").update(active_to=None)
    rep.post(f"/tokens/{made.pk}/away/")
    assert client.get(f"/calendar/{token}.ics").status_code == 404


def test_contacts_go_out_and_come_in_as_vcards(demo, sign_in):
    client, account = sign_in("m1"), Account.objects.get(key="ac001")
    answer = client.get("/customers/account/ac001/contacts.vcf")
    cards = list(vobject.readComponents(answer.content.decode()))
    there = list(account.contacts.order_by("name", "key"))
    assert [(c.fn.value, c.email.value, c.tel.value) for c in cards] == [(c.name, c.email, c.phone) for c in there]
    assert {card.version.value for card in cards} == {"4.0"}
    other = Account.objects.get(key="ac002")
    content = answer.content + (
        b"BEGIN:VCARD\r\nVERSION:3.0\r\nN:Reef;Una;;;\r\nFN:Una Reef\r\nTEL;TYPE=cell;VALUE=uri:tel:+353-1-555\r\n"
        b"EMAIL;TYPE=work:una@reef.example\r\nTITLE:Harbour\\, master\r\nEND:VCARD\r\n"
    )
    before = Contact.objects.filter(account=other).count()

    def send(data):
        return client.post("/customers/account/ac002/contacts/read-in/", {"file": SimpleUploadedFile("a.vcf", data)})

    assert send(content).status_code == 302
    una = Contact.objects.get(account=other, name="Una Reef")
    assert (una.phone, una.email, una.job_title) == ("+353-1-555", "una@reef.example", "Harbour, master")
    assert Contact.objects.filter(account=other).count() == before + len(there) + 1
    send(content)
    assert Contact.objects.filter(account=other).count() == before + len(there) + 1, "the same file twice adds nobody"
    for bad in (
        b"",
        b"Name,Mail\nUna,una@x",
        b"\xff\xfe\x00",
        b"BEGIN:VCARD\r\nFN:Open",
        b"BEGIN:VCARD\r\nVERSION:3.0\r\nEMAIL:x\r\nEND:VCARD\r\n",
    ):
        assert send(bad).status_code == 422, bad
