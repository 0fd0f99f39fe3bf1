"""The start page: what is due, follow-ups and activities planned, done and put off."""

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from django.utils import timezone

from tests.support.answers import text
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.follow_ups import next_try
from wise_tally.domain.deals.models import (
    Activity,
    Contact,
    Deal,
    DealRevision,
    Lead,
)
from wise_tally.domain.deals.selectors import done_contacts
from wise_tally.domain.org.models import OutboxMessage, Person

TODAY = date(2026, 11, 23)


def test_a_message_of_the_firm_goes_to_who_was_not_reached(demo, sign_in):
    """Only where there is one, to the outbox, its placeholders filled; a try without it sends nothing."""
    boss, rep = sign_in("a1"), sign_in("r01", apart=True)
    Lead.objects.create(key="fresh", name="Ada Keld", email="ada@keld.example", owner=Person.objects.get(key="r01"),
                        created_at=datetime(2026, 11, 23, 9, tzinfo=UTC), status="new")  # fmt: skip
    tried = {"lead": "fresh", "what": "not reached, message", "next_on": "2026-11-24"}
    assert "send the message" not in text(rep.get("/today/"))
    assert rep.post("/today/follow-up/", tried).status_code == 409
    settings = {"organisation": "F", "currency": "EUR", "time_zone": "Europe/Dublin", "fiscal_year_start_month": "4"}
    assert "“{price}” cannot be filled in" in text(
        boss.post("/setup/organisation/", settings | {"not_reached_message": "{price}"})
    )
    message = "{firm}: your enquiry\nDear {name}, I ring again on {next}. {me}"
    assert boss.post("/setup/organisation/", settings | {"not_reached_message": message}).status_code == 302
    assert "send the message" in text(rep.get("/today/"))
    assert rep.post("/today/follow-up/", tried).status_code == 302
    sent = OutboxMessage.objects.latest("pk")
    assert (sent.to, sent.subject) == ("ada@keld.example", "F: your enquiry")
    assert sent.body == "Dear Ada Keld, I ring again on 24 Nov 2026. Iva Marrin"
    assert Activity.objects.filter(lead__key="fresh", subject="Tried by phone, not reached, message sent").exists()


@pytest.mark.parametrize(
    ("repeat", "at", "again"),
    [("week", "2026-11-20", "2026-11-27"), ("two_weeks", "2026-11-02", "2026-11-30"),
     ("month", "2026-08-31", "2026-11-30"), ("quarter", "2026-11-30", "2027-02-28")],
)  # fmt: skip
def test_what_repeats_is_planned_again_when_it_is_done(demo, sign_in, repeat, at, again):
    """At the same time of day, the first one ahead; once done it repeats no more, and what is planned for once never does."""
    client = sign_in("r08")
    plan = {
        "deal": "d9001",
        "kind": "phone",
        "subject": "Ring",
        "on": at,
        "at": "09:30",
        "planned": "on",
        "repeat": repeat,
    }
    assert client.post("/customers/activities/", plan | {"repeat": "daily"}).status_code == 422
    client.post("/customers/activities/", plan)
    first = Activity.objects.get(subject="Ring")
    client.post(f"/customers/activity/{first.key}/", {"what": "done"})
    done, after = Activity.objects.filter(subject="Ring").order_by("at")
    assert (done.pk, done.status, done.repeat) == (first.pk, "done", "")
    local = after.at.astimezone(ZoneInfo("Europe/Dublin"))
    assert (f"{local:%Y-%m-%d %H:%M}", after.status, after.repeat) == (f"{again} 09:30", "planned", repeat)
    client.post("/customers/activities/", plan | {"subject": "Once", "repeat": ""})
    client.post(f"/customers/activity/{Activity.objects.get(subject='Once').key}/", {"what": "done"})
    assert Activity.objects.filter(subject="Once").count() == 1


def test_activities_are_planned_done_put_off_and_bad_ones_kept_as_typed(demo, sign_in):
    client = sign_in("r08")
    for typed, says in (({"kind": "phone", "subject": ""}, "Enter a subject."),
                        ({"kind": "dance", "subject": "x"}, "dance"),
                        ({"kind": "mail", "subject": "x", "on": "2027-01-01"}, "cannot lie ahead"),
                        ({"kind": "mail", "subject": "kept words", "planned": "on"}, "Enter a date for the planned")):  # fmt: skip
        refused = client.post("/customers/activities/", {"deal": "d9001", **typed})
        assert refused.status_code == 422
        assert says in text(refused)
    assert 'value="kept words"' in text(refused)
    plan = {"deal": "d9001", "kind": "meeting", "subject": "Board", "on": "2026-11-24", "planned": "on"}
    client.post("/customers/activities/", plan)
    activity = Activity.objects.get(subject="Board")
    assert (activity.account.key, activity.person.key) == ("ac001", "r08")
    put_off = client.post(f"/customers/activity/{activity.key}/", {"what": "put off", "on": "2026-12-03"})
    assert put_off.status_code == 302
    client.post(f"/customers/activity/{activity.key}/", {"what": "done"})
    activity.refresh_from_db()
    assert activity.status == "done"
    assert activity.at <= timezone.now()
    assert sign_in("r01").post(f"/customers/activity/{activity.key}/", {"what": "away"}).status_code == 404
    client = sign_in("r08")
    contact = Contact.objects.filter(account__key="ac001").first()
    sent = client.post(
        f"/customers/contact/{contact.key}/write/", {"subject": "A & B", "body": "x\ny", "deal": "d9001"}
    )
    assert f"mailto:{contact.email.replace('@', '%40')}?subject=A%20%26%20B" in text(sent)
    assert Activity.objects.filter(kind="mail", deal__key="d9001", subject__contains="A & B").exists()


def test_due_today_names_every_reason_and_nothing_else(demo, sign_in):
    """Against a naive reading of a rep's open deals."""
    client, expected = sign_in("r02"), {}
    for row in client.get("/deals/table.json?cols=days,over,close,slips,next_on,gap").json()["rows"]:
        over, close, slips, next_on, gap = row[3], row[4], row[5], row[6], row[7]
        acts = Activity.objects.filter(deal__key=row[0], status="planned").values_list("at", flat=True)
        planned = any(at.date() <= TODAY for at in acts)
        week = [str(TODAY + timedelta(days=n)) for n in range(7)]
        expected[row[0]] = [bool(next_on) and next_on <= str(TODAY), planned, close in week, bool(close) and close < str(TODAY),
                            over is not None, slips >= 2, not close, gap > 0]  # fmt: skip
    found = {}
    for number in (1, 2, 3):
        page = client.get(f"/today/?page={number}")
        found |= {item.row.key: len({words for words, _ in item.reasons}) for item in page.context["due"]}
    assert set(found) == {key for key, reasons in expected.items() if any(reasons)}
    assert page.context["open_deals"] == len(expected)
    for key, number in found.items():
        assert number >= sum(expected[key]), key


def test_the_next_days_show_what_is_planned_about_the_own_deals(demo, sign_in):
    client, days = sign_in("r02"), [TODAY + timedelta(days=n) for n in range(1, 8)]
    mine = {row[0] for row in client.get("/deals/table.json?cols=days").json()["rows"]}
    steps = {(d.next_step_on, d.key) for d in Deal.objects.filter(key__in=mine, next_step_on__in=days)}
    planned = Activity.objects.filter(status="planned", deal__key__in=mine).values_list("at", flat=True)
    expected = sorted([on for on, _ in steps] + [at.date() for at in planned if at.date() in days])
    assert [one.on for one in client.get("/today/").context["coming"]] == expected[:10]
    assert expected


def test_a_lead_is_followed_up_from_the_start_page_alone(demo, sign_in):
    """Not reached: the try is no contact, the next working day is planned; reached: what came of it, and the next step."""
    client, here = sign_in("r02"), {"next": "/today/"}
    lead = Lead.objects.create(key="fresh", name="Una Reel", phone="+353 1 555", owner=Person.objects.get(key="r02"),
                               status="new", created_at=datetime(2026, 11, 23, 9, tzinfo=UTC), source="Field day")  # fmt: skip

    def listed():
        return next((call for call in client.get("/today/").context["calls"] if call.key == "fresh"), None)

    call = listed()
    assert (call.phone, call.again_on) == ("+353 1 555", date(2026, 11, 24))
    assert 'href="tel:+3531555"' in text(client.get("/today/"))
    done = done_contacts().filter(lead=lead)
    refused = client.post("/today/follow-up/", {"lead": "fresh", "what": "not reached", **here})
    assert (refused.status_code, lead.activities.count()) == (422, 0)
    client.post("/today/follow-up/", {"lead": "fresh", "what": "not reached", "next_on": "2026-11-24", **here})
    assert [(a.kind, a.status) for a in lead.activities.order_by("pk")] == [("task", "done"), ("phone", "planned")]
    twice = client.post("/today/follow-up/", {"lead": "fresh", "what": "reached", "text": "Twice"})
    assert (twice.status_code, lead.activities.count()) == (409, 2)
    assert not done.exists(), "a try is no contact"
    lead.refresh_from_db()
    assert (lead.status, listed()) == ("working", None)
    planned = lead.activities.get(status="planned")
    Activity.objects.filter(pk=planned.pk).update(at=datetime(2026, 11, 20, 12, tzinfo=UTC))
    assert listed().is_late
    said = {"activity": planned.key, "what": "reached", "text": "Wants a visit", "next_on": "2026-12-01", **here}
    assert [client.post("/today/follow-up/", said | {"next": ""}).status_code for _ in range(2)] == [302, 409]
    assert [a.subject for a in done] == ["Try again: Wants a visit"]
    after = lead.activities.get(status="planned")
    assert (after.subject, after.at.date()) == ("Wants a visit", date(2026, 12, 1))
    client.post("/today/follow-up/", {"activity": after.key, "what": "later", "next_on": "2026-12-04", **here})
    after.refresh_from_db()
    assert after.at.date() == date(2026, 12, 4)
    tried = {"activity": after.key, "what": "not reached", "next_on": "2026-12-07"}
    assert [client.post("/today/follow-up/", tried).status_code for _ in range(2)] == [302, 409]
    assert lead.activities.filter(kind="task").count() == 2


@pytest.mark.parametrize(
    ("day", "proposed"), [("2026-11-26", "2026-11-27"), ("2026-11-27", "2026-11-30"), ("2026-11-29", "2026-11-30")]
)
def test_the_next_try_is_proposed_for_a_working_day(day, proposed):
    assert next_try(date.fromisoformat(day)) == date.fromisoformat(proposed)


def test_stage_close_and_next_step_are_brought_up_to_date_in_one_go(demo, sign_in):
    client, deal = sign_in("r08"), Deal.objects.get(key="d9001")
    count = DealRevision.objects.count()
    row = {"stage": "ns_offer", "expected_close": "2026-12-18", "amount": "420000.00", "category": "",
           "revision": last_revision(deal).pk, "next_step": "Ring", "next_step_on": "2026-11-27"}  # fmt: skip
    refused = client.post("/today/d9001/", row | {"next_step_on": "soon", "stage": "re_offer"})
    assert refused.status_code == 422
    assert 'value="soon"' in text(refused)
    assert (DealRevision.objects.count(), Deal.objects.get(key="d9001").next_step) == (count, "Board meets")
    assert client.post("/today/d9001/", row).url == "/today/"
    deal.refresh_from_db()
    assert (last_revision(deal).stage.key, deal.next_step, str(deal.next_step_on)) == ("ns_offer", "Ring", "2026-11-27")
    old = client.post("/today/d9001/", row | {"stage": "ns_terms"})
    assert old.status_code == 409
    assert "Joss Merrow changed this deal on" in text(old)
    assert client.get("/").url == "/brief/", "everybody starts with the brief"
