"""What was written down about a customer, or made, can be undone where it was done, to the row, as long as it is the last."""

import re
from datetime import UTC, datetime

import pytest
from django.db import connection

from tests.support.answers import text
from wise_tally.domain.deals.last_step import MODELS
from wise_tally.domain.deals.models import Activity, Contact, Deal, Lead, Note
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import AuditEntry, Person, Workspace

TALK = {"deal": "d9001", "kind": "phone", "subject": "Rang Ada"}
TOMORROW = {"on": "2026-11-24", "planned": "on"}
ACTIVITY = "/customers/activity/weekly/"
LEAD, CONTACT = "/customers/lead/fresh/change/", "/customers/contact/known/"
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
    ("/today/follow-up/", FRESH | {"what": "reached", "text": "Wants one"}, "Una Reel: reached, next 24 Nov 2026."),
    ("/today/follow-up/", {"activity": "weekly", "what": "reached", "text": "So"}, ": reached."),
    (LEAD, {"what": "work"}, "Lead is being worked on."),
    (LEAD, {"what": "step", "step": "reached"}, "Moved to "),
    (LEAD, {"what": "drop", "because": "small"}, "Lead disqualified."),
    (LEAD, {"what": "save", "name": "Una", "status": "new", "owner": "r08"}, "Lead saved."),
    ("/customers/leads/new/", {"name": "Cal Reed", "status": "new", "owner": "r08"}, "Cal Reed was added."),
    ("/customers/accounts/new/", {"name": "Quite Other", "kind": "person", "owner": "r08"}, "Quite Other was added."),
    ("/customers/account/ac001/contacts/", {"name": "Ann Moor"}, "Ann Moor was added."),
    (CONTACT, {"name": "Bea Moor"}, "Bea Moor was saved."),
]


@pytest.fixture
def journal(demo):
    """A deal with something planned each week, done and noted, and a new lead."""
    deal, rep = Deal.objects.get(key="d9001"), Person.objects.get(key="r08")
    at = datetime(2026, 11, 20, 9, tzinfo=UTC)
    about = {"person": rep, "deal": deal, "account": deal.account, "at": at}
    Activity.objects.create(key="weekly", kind="phone", status="planned", repeat="week", subject="Ring", **about)
    Activity.objects.create(key="done", kind="meeting", status="done", subject="Met", **about)
    Note.objects.create(key="old", text="Reasons so", **about)
    Contact.objects.create(key="known", account=deal.account, name="Bea")
    Lead.objects.create(key="fresh", name="Una Reel", status="new", created_at=at, source="Field day")


def rows():
    """Every row of the tables that a step may change, as the database holds it."""

    def of(cursor, table):
        cursor.execute(f"SELECT * FROM {table} ORDER BY id")
        return cursor.fetchall()

    with connection.cursor() as cursor:
        return {name: of(cursor, model._meta.db_table) for name, model in MODELS.items()}


def offered(client, page="/tokens/"):
    """The address of the button at the foot of the next page."""
    found = re.search(r'action="(/customers/undo/[^"]+)"', text(client.get(page)))
    return found and found[1]


@pytest.mark.parametrize(("address", "body", "words"), STEPS)
def test_a_step_is_undone_to_the_row(journal, sign_in, address, body, words):
    client, before = sign_in("r08"), rows()
    page = client.post(address, {"next": "/deals/d9001/"} | body).url
    assert rows() != before
    shown = text(client.get(page))
    assert words in shown
    undo = re.search(r'action="(/customers/undo/[^"]+)"', shown)[1]
    back = client.post(undo, {"next": page})
    assert rows() == before
    assert client.get(back.url).status_code == 200
    assert AuditEntry.objects.filter(action__endswith=" change undone").exists()
    assert client.post(undo).status_code == 409, "once"
    assert rows() == before
    assert offered(client) is None


FIGURES = ("/team/contact-gaps/table.csv", "/attainment/table.csv?measure=activities&by=person", "/deals/table.csv?cols=gap",
           "/conversion/lead-conversion/table.csv", "/customers/leads/table.csv")  # fmt: skip


def test_figures_are_then_as_if_it_had_not_been(journal, sign_in):
    client = sign_in("r08")

    def figures():
        return [client.get(address).content for address in FIGURES]

    before = figures()
    for address, body in (("/customers/activities/", TALK), (LEAD, {"what": "step", "step": "reached"})):
        page = client.post(address, body | {"next": "/deals/d9001/"}).url
        assert figures() != before
        client.post(offered(client, page))
        assert figures() == before


def test_what_is_new_stays_once_something_belongs_to_it(journal, sign_in):
    client = sign_in("r08")
    for made, belongs in (("accounts", {"account": "quite_other"}), ("leads", {"lead": "quite_other"})):
        page = client.post(
            f"/customers/{made}/new/", {"name": "Quite Other", "kind": "person", "owner": "r08", "status": "new"}
        ).url
        undo = offered(client, page)
        Activity.objects.create(key=made, kind="phone", at=datetime(2026, 11, 20, tzinfo=UTC), subject="x", **{
            name: MODELS[name.capitalize()].objects.get(key=key) for name, key in belongs.items()})  # fmt: skip
        before, refused = rows(), client.post(undo)
        assert (refused.status_code, rows()) == (409, before)
        assert "changed or added in the meantime" in text(refused)


def test_only_the_last_step_is_undone_by_who_did_it_and_while_nobody_changed_it(journal, sign_in):
    client = sign_in("r08")
    client.post("/customers/activities/", TALK)
    first = offered(client)
    client.post("/customers/activities/", TALK | {"subject": "Rang Bea"})
    second, before = offered(client), rows()

    def refused(client, address, status, says):
        answer = client.post(address)
        assert (answer.status_code, Activity.objects.latest("pk").subject) == (status, "Rang Bea")
        assert says in text(answer)

    refused(client, first, 409, "Only the last step can be undone")
    Person.objects.filter(key="r08").update(role="viewer")
    refused(client, second, 403, "")
    Person.objects.filter(key="r08").update(role="rep")
    assert rows() == before
    Activity.objects.filter(subject="Rang Bea").update(kind="mail")
    refused(client, second, 409, "changed or added in the meantime")
    Activity.objects.filter(subject="Rang Bea").update(kind="phone")
    session = client.session
    session["last_step"] = session["last_step"] | {"at": now().timestamp() - 3_601}
    session.save()
    refused(client, second, 409, "within an hour")
    refused(sign_in("m1"), second, 409, "Only the last step can be undone")


def test_a_message_that_is_sent_cannot_be_undone(journal, sign_in):
    Workspace.objects.update(not_reached_message="Tried\nto reach you")
    Lead.objects.filter(key="fresh").update(email="una@reel.example")
    client = sign_in("r08")
    client.post("/today/follow-up/", FRESH | {"what": "not reached, message"})
    assert offered(client) is None
