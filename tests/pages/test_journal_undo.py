"""Each step of a journal can be undone where it was done, to the row, as long as it is the last and nobody changed it."""

import re
from datetime import UTC, datetime

import pytest

from tests.support.answers import text
from wise_tally.domain.deals.models import Activity, Deal, Lead, Note
from wise_tally.domain.org.models import AuditEntry, Person, Workspace

TALK = {"deal": "d9001", "kind": "phone", "subject": "Rang Ada"}
TOMORROW = {"on": "2026-11-24", "planned": "on"}
ACTIVITY = "/customers/activity/weekly/"
FRESH = {"lead": "fresh", "next_on": "2026-11-24"}
STEPS = [
    ("/customers/activities/", TALK, "Added to the journal."),
    ("/customers/activities/", TALK | TOMORROW, "Planned."),
    ("/customers/activities/", TALK | {"kind": "note"}, "Added to the journal."),
    ("/customers/notes/", {"lead": "fresh", "text": "So"}, "Added to the journal."),
    ("/customers/note/old/", {}, "Note deleted."),
    (ACTIVITY, {"what": "done"}, "Marked as done."),
    (ACTIVITY, {"what": "put off", "on": "2026-12-03"}, "Rescheduled."),
    (ACTIVITY, {"what": "away"}, "Activity deleted."),
    ("/customers/activity/done/", {"what": "away"}, "Activity deleted."),
    ("/customers/activity/done/", {"what": "open again"}, "Planned again."),
    ("/today/follow-up/", FRESH | {"what": "not reached"}, "Una Reel: not reached, next 24 Nov 2026."),
    ("/today/follow-up/", FRESH | {"what": "reached", "text": "Wants one"}, "Una Reel: kept, next 24 Nov 2026."),
    ("/today/follow-up/", {"activity": "weekly", "what": "reached", "text": "So"}, "kept."),
]


@pytest.fixture
def journal(demo):
    """A deal with something planned each week, done and noted, and a new lead."""
    deal, rep = Deal.objects.get(key="d9001"), Person.objects.get(key="r08")
    at = datetime(2026, 11, 20, 9, tzinfo=UTC)
    about = {"person": rep, "deal": deal, "account": deal.account, "at": at}
    Activity.objects.create(key="weekly", kind="phone", status="planned", repeat="week", subject="Ring", **about)
    Activity.objects.create(key="done", kind="meeting", status="done", subject="Met", **about)
    Note.objects.create(key="old", text="Said so", **about)
    Lead.objects.create(key="fresh", name="Una Reel", status="new", created_at=at, source="Field day")


def rows():
    return [list(model.objects.order_by("pk").values()) for model in (Activity, Note, Lead)]


def offered(client):
    """The address of the button at the foot of the next page."""
    found = re.search(r'action="(/customers/undo/[^"]+)"', text(client.get("/deals/d9001/")))
    return found and found[1]


@pytest.mark.parametrize(("address", "body", "words"), STEPS)
def test_a_step_is_undone_to_the_row(journal, sign_in, address, body, words):
    client, before = sign_in("r08"), rows()
    assert client.post(address, body | {"next": "/deals/d9001/"}).status_code == 302
    assert rows() != before
    page = text(client.get("/deals/d9001/"))
    assert words in page
    undo = re.search(r'action="(/customers/undo/[^"]+)"', page)[1]
    assert client.post(undo, {"next": "/deals/d9001/"}).url == "/deals/d9001/"
    assert rows() == before
    assert AuditEntry.objects.filter(action="journal entry put back").exists()
    assert client.post(undo).status_code == 409, "once"
    assert rows() == before
    assert offered(client) is None


def test_only_the_last_step_is_undone_by_who_did_it_and_while_nobody_changed_it(journal, sign_in):
    client = sign_in("r08")
    client.post("/customers/activities/", TALK)
    first = offered(client)
    client.post("/customers/activities/", TALK | {"subject": "Rang Bea"})
    second, before = offered(client), rows()

    def refused(client, address, status, says):
        answer = client.post(address)
        assert (answer.status_code, rows()[0][-1]["subject"]) == (status, "Rang Bea")
        assert says in text(answer)

    refused(client, first, 409, "Only the last entry can be undone")
    Person.objects.filter(key="r08").update(role="viewer")
    refused(client, second, 403, "")
    Person.objects.filter(key="r08").update(role="rep")
    assert rows() == before
    Activity.objects.filter(subject="Rang Bea").update(kind="mail")
    refused(client, second, 409, "changed in the meantime")
    Activity.objects.filter(subject="Rang Bea").update(kind="phone")
    refused(sign_in("m1"), second, 409, "Only the last entry can be undone")


def test_a_message_that_is_sent_cannot_be_undone(journal, sign_in):
    Workspace.objects.update(not_reached_message="Tried\nto reach you")
    Lead.objects.filter(key="fresh").update(email="una@reel.example")
    client = sign_in("r08")
    client.post("/today/follow-up/", FRESH | {"what": "not reached", "message": "yes"})
    assert offered(client) is None
