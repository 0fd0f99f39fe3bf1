"""Accounts, the account sheet, leads, activities, the simulated ledger, due today, and the search."""

import re
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from tests.conftest import NOW
from tests.support.answers import text
from tests.support.world import ask
from wise_tally.domain import formats as filters
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.follow_ups import next_try
from wise_tally.domain.deals.models import (
    Account,
    Activity,
    Contact,
    Deal,
    DealRevision,
    Invoice,
    Lead,
    Note,
    Order,
    OwnField,
)
from wise_tally.domain.deals.selectors import done_contacts
from wise_tally.domain.org.models import AuditEntry, OutboxMessage, Person
from wise_tally.domain.process.models import LeadStep

pytestmark = pytest.mark.django_db
TODAY = date(2026, 11, 23)


def test_a_lead_takes_the_steps_that_the_firm_set(demo, sign_in):
    """Set in Setup; moved on its page and together; kept with the day; past days show the step of then; retired ones stay."""
    head = sign_in("m1")
    fifth = {"name": "Site seen", "position": "5", "typical_days_hundredths": "7.5"}
    assert head.post("/setup/lists/lead-steps/", fifth | {"position": "4"}).status_code == 422, "that place is taken"
    assert head.post("/setup/lists/lead-steps/", fifth).status_code == 302
    step = LeadStep.objects.get(name="Site seen")
    assert step.typical_days_hundredths == 750
    lead = Lead.objects.get(key="l0621")
    assert (lead.status, lead.step.key) == ("new", "new")
    address = f"/customers/lead/{lead.key}/change/"
    assert head.post(address, {"what": "step", "step": step.key}).status_code == 302
    assert head.post(address, {"what": "step", "step": "moon"}).status_code == 422
    lead.refresh_from_db()
    assert (lead.status, lead.step, lead.moves.count()) == ("working", step, 2)
    assert "Step: Site seen" in text(head.get(f"/customers/lead/{lead.key}/"))
    rows = {r.lead.key: r for r in head.get("/customers/leads/?step=site_seen").context["list"].rows}
    assert set(rows) == {lead.key}
    assert rows[lead.key].days < 1
    past = f"/customers/leads/?status=all&find={lead.name}&as_of={TODAY - timedelta(days=1)}"
    assert {r.lead.key: r.step.key for r in head.get(past).context["list"].rows}[lead.key] == "new"
    others = list(Lead.objects.filter(status="new").values_list("key", flat=True)[:3])
    moved = {"kind": "lead", "record": others, "step": "tried"}
    assert head.post("/customers/several/", moved).status_code == 302
    assert set(Lead.objects.filter(key__in=others).values_list("step__key", "status")) == {("tried", "working")}
    assert head.post("/customers/several/", {"kind": "lead", "what": "undo"}).status_code == 302
    assert set(Lead.objects.filter(key__in=others).values_list("step__key", flat=True)) == {"new"}
    head.post(f"/setup/lists/lead-steps/{step.key}/", fifth | {"retired": "on"})
    assert "Site seen" in text(head.get(f"/customers/lead/{lead.key}/"))
    assert "Site seen" not in text(head.get(f"/customers/lead/{others[0]}/"))
    assert head.post(f"/customers/lead/{others[0]}/change/", {"what": "step", "step": step.key}).status_code == 422
    new = head.post("/customers/leads/new/", {"name": "Ann Mell", "status": "new", "score": "101"})
    assert new.status_code == 422
    Lead.objects.create(key="came", name="Came with a step", created_at=datetime(2026, 11, 2, tzinfo=UTC), status="new",
                        step=LeadStep.objects.get(key="tried"))  # fmt: skip
    rows = {r.lead.key: (r.step.key, r.days) for r in head.get(past.replace(lead.name, "Came")).context["list"].rows}
    assert rows == {"came": ("tried", None)}
    head.post("/customers/leads/new/", {"name": "Ann Mell", "status": "new", "score": "40", "campaign": "Fair"})
    made = Lead.objects.get(name="Ann Mell")
    assert (made.step.key, made.score, made.campaign, made.moves.count()) == ("new", 40, "Fair", 1)


def test_the_steps_of_leads_are_counted_as_their_moves_say(demo, sign_in):
    """Against a naive count over the moves, for the company and a rep."""
    client = sign_in("m1")
    for who in ("", "r03"):
        query = f"?period=FY2027{f'&who=person:{who}' if who else ''}"
        shown = client.get(f"/conversion/lead-conversion/{query}").context["steps"]
        leads = Lead.objects.filter(created_at__gte=datetime(2026, 3, 31, 23, tzinfo=UTC))
        leads = leads.filter(owner__key=who) if who else leads
        order, reached = [step.key for step, _ in shown], [0] * len(shown)
        for lead in leads:
            furthest = max(order.index(move.step.key) for move in lead.moves.all())
            for place in range(len(order)):
                reached[place] += place <= furthest or lead.status == "qualified"
        assert [row.reached for _, row in shown] == reached
        assert all(row.reached == row.moved_on + row.dropped + row.open for _, row in shown)
        told = client.get(f"/conversion/lead-conversion/table.json{query}&table=steps").json()
        assert [row[1] for row in told["rows"]] == reached
        assert reached[0] > 0


def test_the_sheet_of_the_falling_account_tells_its_story(demo, sign_in):
    """Ages, sales and orders are those of a naive sum over the ledger's rows."""
    page = sign_in("m1").get("/customers/account/ac001/")
    shown, invoices = page.context, list(Invoice.objects.filter(account__key="ac001"))
    unpaid = [i for i in invoices if i.paid_on is None or i.paid_on > TODAY]
    assert shown["owed_minor"] == sum(i.amount_minor for i in unpaid)
    assert shown["late_minor"] == sum(i.amount_minor for i in unpaid if i.due_on < TODAY) > 0
    this = [i for i in invoices if date(2026, 11, 1) <= i.issued_on <= TODAY]
    before = [i for i in invoices if date(2025, 11, 1) <= i.issued_on <= date(2025, 11, 23)]
    assert shown["all_sales"].this_minor == sum(i.amount_minor for i in this)
    assert shown["all_sales"].before_minor == sum(i.amount_minor for i in before)
    assert shown["year_sales"].change_minor < 0
    assert "▼" in text(page)
    assert shown["open_totals"].amount_minor >= 42_000_000
    assert filters.short(shown["late_minor"]) in text(page)
    orders = Order.objects.filter(account__key="ac001", open=True)
    assert shown["orders_minor"] == sum(order.amount_minor for order in orders)
    months = {key: row for key, _, row in shown["sales_months"]}
    assert len(months) == 12
    for key, first in (("FY2027-M07", date(2026, 10, 1)), ("FY2026-M09", date(2025, 12, 1))):
        sold = [sum(i.amount_minor for i in invoices if (i.issued_on.year, i.issued_on.month) == (first.year - n, first.month))
                for n in (0, 1)]  # fmt: skip
        assert [months[key].this_minor, months[key].before_minor] == sold
    october = sign_in("m1").get("/customers/account/ac001/?month=FY2027-M07").context
    assert (october["span_this"].ends_on, october["span_before"].ends_on) == (date(2026, 10, 31), date(2025, 10, 31))


def test_likely_twins_are_offered_and_merging_loses_nothing(demo, sign_in):
    client = sign_in("a1")
    kept, before = Account.objects.get(key="ac001"), Account.objects.count()
    slip = client.post("/customers/accounts/new/", {"name": "orrin upper waterbord", "kind": "organisation"})
    assert kept.name in text(slip)
    offered = client.post("/customers/accounts/new/", {"name": kept.name.upper() + ".", "kind": "organisation"})
    assert offered.status_code == 422
    assert kept.name in text(offered)
    typed = {"name": kept.name.upper() + ".", "kind": "organisation", "country": "XX", "sure": "yes"}
    twin_url = client.post("/customers/accounts/new/", typed).url
    twin = Account.objects.get(key=twin_url.split("/")[-2])
    assert Account.objects.count() == before + 1
    client.post(f"{twin_url}contacts/", {"name": "Twin <Person>", "email": "t@x.example"})
    client.post("/customers/notes/", {"account": twin.key, "text": "from the twin"})
    client.post(
        "/customers/activities/", {"account": twin.key, "kind": "phone", "subject": "asked", "on": "2026-11-20"}
    )
    deal = Deal.objects.filter(account__key="ac002").first()
    Deal.objects.filter(pk=deal.pk).update(account=twin)
    Account.objects.filter(pk=kept.pk).update(country="")
    things = (Deal, Contact, Activity, Note, Invoice, Order)
    counts = [model.objects.count() for model in things]
    assert "Not saved yet" in text(client.get(f"/customers/account/ac001/merge/?twin={twin.key}"))
    assert client.post("/customers/account/ac001/merge/", {"twin": "ac001"}).status_code == 400
    client.post("/customers/account/ac001/merge/", {"twin": twin.key})
    assert [model.objects.count() for model in things] == counts
    assert not Account.objects.filter(pk=twin.pk).exists()
    kept.refresh_from_db()
    deal.refresh_from_db()
    assert (kept.country, deal.account) == ("XX", kept)
    assert kept.notes.filter(text="from the twin").exists()
    assert twin.name in AuditEntry.objects.get(action="accounts merged").before
    page = text(client.get("/customers/account/ac001/"))
    assert "Twin &lt;Person&gt;" in page


def test_an_account_changed_by_two_is_refused_with_both_values(demo, sign_in):
    client = sign_in("m1")
    form = client.get("/customers/account/ac001/change/")
    typed = {"name": "First", "kind": "organisation", "seen": form.context["seen"]}
    assert client.post("/customers/account/ac001/change/", typed).status_code == 302
    late = client.post("/customers/account/ac001/change/", typed | {"name": "Second"})
    assert late.status_code == 409
    assert "First" in text(late)
    assert 'value="Second"' in text(late)
    again = typed | {"name": "Second", "seen": late.context["seen"]}
    assert client.post("/customers/account/ac001/change/", again).status_code == 302
    assert Account.objects.get(key="ac001").name == "Second"


def test_a_lead_from_taking_in_to_a_deal(demo, sign_in):
    client = sign_in("r01")
    assert client.post("/customers/leads/new/", {"name": "", "email": "no mail"}).status_code == 422
    typed = {"name": "Una Lough", "customer": "Selt Basin Trust", "email": "una@selt.example", "source": "Referral",
             "owner": "r01", "status": "new"}  # fmt: skip
    url = client.post("/customers/leads/new/", typed).url
    lead = Lead.objects.get(name="Una Lough")
    assert "Una Lough" in text(client.get("/today/"))
    client.post("/customers/activities/", {"lead": lead.key, "kind": "phone", "subject": "first talk", "next": url})
    assert client.post(f"{url}change/", {"what": "drop", "because": ""}).status_code == 422
    client.post(f"{url}change/", {"what": "work"})
    deal = {"what": "qualify", "name": "Selt gauges", "account": "", "account_name": "Selt Basin Trust",
            "stage": "ns_enquiry", "amount": "9000", "owner": "r01", "territory": "north_fells"}  # fmt: skip
    assert client.post(f"{url}change/", deal | {"stage": "ns_won"}).status_code == 422
    made = client.post(f"{url}change/", deal)
    found = Deal.objects.get(name="Selt gauges")
    assert made.url == f"/deals/{found.key}/"
    assert (found.account.name, found.contact.email, found.source) == (
        "Selt Basin Trust",
        "una@selt.example",
        "Referral",
    )
    assert last_revision(found).territory.key == "north_fells"
    assert found.activities.get().subject == "first talk"
    lead.refresh_from_db()
    assert (lead.status, lead.deal) == ("qualified", found)
    assert client.post(f"{url}change/", deal).status_code == 422, "once only"
    second = client.post("/customers/leads/new/", typed | {"name": "Orla Lough"}).url
    page = client.get(second)
    assert page.context["qualify"].initial["account"] == found.account.key, "the likely customer is offered"
    accounts = Account.objects.count()
    client.post(f"{second}change/", deal | {"account": found.account.key, "name": "More gauges"})
    assert Account.objects.count() == accounts
    third = client.post("/customers/leads/new/", typed | {"name": "Third"}).url
    client.post(f"{third}change/", {"what": "drop", "because": "Too small"})
    assert Lead.objects.get(name="Third").dropped_because == "Too small"
    assert "Third" in text(client.get("/customers/leads/?status=dropped"))
    client.post(f"{third}change/", {"what": "take up again"})
    assert Lead.objects.get(name="Third").status == "working"


def test_a_lead_is_known_by_mail_telephone_or_name_and_qualified_in_one_form(demo, sign_in):
    """The surest first, each with why; what is out of sight is not named; a person may be the customer; next step and campaign."""
    account, head = Account.objects.get(key="ac001"), sign_in("m1")
    Contact.objects.create(
        key="mell", account=account, name="Ann Mell", email="Ann@orrin.example", phone="+353 (1) 55-66 77"
    )
    lead = {"name": "A. Mell", "customer": "", "status": "new", "owner": "r08"}

    def known(client, **more):
        page = client.get(client.post("/customers/leads/new/", lead | more).url)
        return [(found.key, why) for found, why in page.context["known"]], page

    assert known(head, email="ann@ORRIN.example")[0][0] == ("ac001", "Ann Mell, same e-mail")
    assert known(head, phone="01 556677")[0][0] == ("ac001", "Ann Mell, same telephone")
    assert ("ac001", "similar name") in known(head, customer=account.name)[0]
    assert known(head, phone="12")[0] == []
    assert known(sign_in("r01", apart=True), email="ann@orrin.example", owner="r01")[0] == []
    _, page = known(head, name="Otto Brook", campaign="Gauge day")
    assert page.context["qualify"].initial["kind"] == "person"
    key = page.context["lead"].key
    typed = {"what": "qualify", "name": "Brook gauge", "account_name": "Otto Brook", "kind": "person", "stage": "ns_enquiry",
             "owner": "r08", "next_step": "Send the drawing", "next_step_on": "2026-12-01"}  # fmt: skip
    assert head.post(f"/customers/lead/{key}/change/", typed).status_code == 302
    deal = Deal.objects.get(name="Brook gauge")
    assert (deal.account.kind, deal.contact.name, deal.campaign) == ("person", "Otto Brook", "Gauge day")
    assert (deal.next_step, str(deal.next_step_on)) == ("Send the drawing", "2026-12-01")


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


def test_the_search_finds_everything_and_shows_only_what_may_be_opened(demo, sign_in):
    Lead.objects.filter(key="l0621").update(name="Barrage lead")
    kinds = {item.kind for item in sign_in("m1").get("/find/?q=barrage").context["results"]}
    assert kinds == {"deal", "lead"}
    assert {i.kind for i in sign_in("m1").get("/find/?q=ac001").context["results"]} == {"account"}
    people = sign_in("m1").get("/find/?q=Odran").context["results"]
    assert [(i.kind, i.url) for i in people if i.kind == "person"] == [("person", "/deals/?who=person%3Ar02")]
    assert {i.kind for i in sign_in("r08").get("/find/?q=barrage").context["results"]} == {"deal"}
    assert not sign_in("r01").get("/find/?q=barrage network").context["results"]
    # Behind hundreds of newer ones of others stand one's own.
    assert [i.kind for i in sign_in("r05").get("/find/?q=river").context["results"]].count("deal") == 8
    head = sign_in("m1")
    contact = Contact.objects.exclude(phone="").order_by("key")[0]
    for asked in (
        contact.phone,
        contact.phone.replace(" ", "-"),
        contact.email,
        f"{contact.name.split()[1]} {contact.name[:3]}",
    ):
        assert contact.name in {i.name for i in head.get("/find/", {"q": asked}).context["results"]}, asked
    assert {i.kind for i in head.get("/find/?q=d9001").context["results"]} == {"deal"}
    assert "Loss reasons" in {i.name for i in head.get("/find/?q=loss rea").context["results"] if i.kind == "page"}
    assert [(i.kind, i.url) for i in head.get("/find/?q=new dea").context["results"]] == [
        ("action", "/deals/new-deal/")
    ]
    assert not sign_in("r01").get("/find/?q=%25").context["results"]
    others = Account.objects.exclude(owner__key="r01").exclude(deals__revisions__owner__key="r01")
    others = others.exclude(deals__credits__person__key="r01")
    leads = Lead.objects.exclude(owner__key="r01")
    for address, closed in (("accounts", others), ("leads", leads)):
        shown = text(sign_in("r01").get(f"/customers/{address}/"))
        assert closed.count() > 50
        assert not [one.key for one in closed if f"/{one.key}/" in shown], "what belongs to others stays closed"


def test_the_simulated_ledger_brings_each_day_once(demo, sign_in):
    client = sign_in("a1")
    Invoice.objects.filter(issued_on__gt=date(2026, 11, 9)).delete()
    Order.objects.filter(ordered_on__gt=date(2026, 11, 9)).delete()
    before = Invoice.objects.count()
    client.post("/setup/imports/ledger/")
    first = Invoice.objects.count()
    assert first > before
    newest = set(Invoice.objects.filter(key__startswith="inv_").values_list("key", "amount_minor"))
    assert all("inv_202611" in key for key, _ in newest)
    client.post("/setup/imports/ledger/")
    assert set(Invoice.objects.filter(key__startswith="inv_").values_list("key", "amount_minor")) >= newest
    assert Invoice.objects.filter(key__startswith="inv_").count() - len(newest) <= 8, "only the days after the last"


def ran_out(client):
    """The sign-in has been idle for longer than it may."""
    session = client.session
    session["signed_in"] = session["signed_in"] | {"seen": session["signed_in"]["seen"] - 13 * 3600}
    session.save()


def test_a_tab_left_open_loses_no_typing(demo, client):
    """The sign-in ran out, or somebody signed in anew in another tab: what was typed can be sent again."""
    note = {"deal": "d9001", "text": "three long paragraphs & more", "next": "/deals/d9001/"}
    here = {"HTTP_ORIGIN": "http://testserver"}
    person = User.objects.get(username="m1")
    person.set_password("long enough to keep")
    person.save()
    in_words = {"username": "m1", "password": "long enough to keep"}
    assert client.post("/customers/notes/", note, **here).url.startswith("/sign-in/")
    assert client.post("/sign-in/", in_words).url == "/", "nothing is kept of who was never signed in"
    ran_out(client)
    assert client.post("/customers/notes/", note, **here).url.startswith("/sign-in/")
    other = client.post("/sign-in/demo/", {"role": "rep"})
    assert other.url == "/", "what one person typed is not shown to another"
    assert client.get("/typed/").status_code == 302
    client.post("/sign-in/", in_words)
    ran_out(client)
    client.post("/customers/notes/", note, **here)
    assert client.post("/sign-in/", in_words).url == "/typed/"
    page = text(client.get("/typed/"))
    assert 'action="/customers/notes/"' in page
    assert "three long paragraphs &amp; more" in page
    assert not Note.objects.filter(text__contains="paragraphs").exists(), "nothing is saved until it is sent again"
    client.post("/typed/")
    assert client.get("/typed/").status_code == 302, "dropped"
    strict = Client(enforce_csrf_checks=True)
    strict.force_login(person)
    stale = strict.post("/customers/notes/", note, **here)
    assert stale.status_code == 403
    assert "three long paragraphs" in text(stale)
    foreign = strict.post("/customers/notes/", note, HTTP_ORIGIN="http://elsewhere.example")
    assert "three long paragraphs" not in text(foreign), "only forms of our own pages are kept"


def test_own_fields_of_accounts_and_leads_are_typed_checked_and_kept(demo, sign_in):
    for applies_to in ("account", "lead"):
        OwnField.objects.create(key=f"{applies_to}_km", applies_to=applies_to, name="km of bank", kind="number")
    client = sign_in("m1")
    for add, base in (("/customers/accounts/new/", {"name": "Far Quay", "kind": "organisation"}),
                      ("/customers/leads/new/", {"name": "Far Lead", "status": "new"})):  # fmt: skip
        name = f"own:{'account' if 'accounts' in add else 'lead'}_km"
        wrong = client.post(add, base | {name: "long"})
        assert wrong.status_code == 422
        assert "km of bank: “long” is not a number" in text(wrong)
        assert 'value="long"' in text(wrong)
        made = client.post(add, base | {name: "12.5"})
        assert made.status_code == 302
        assert "12.5" in text(client.get(made.url))
    lead = Lead.objects.get(name="Far Lead")
    page = client.get(f"/customers/lead/{lead.key}/")
    typed = {"what": "save", "name": "Far Lead", "status": "new", "seen": page.context["seen"], "own:lead_km": "13"}
    assert client.post(f"/customers/lead/{lead.key}/change/", typed | {"own:lead_km": "x"}).status_code == 422
    assert client.post(f"/customers/lead/{lead.key}/change/", typed).status_code == 302
    late = client.post(f"/customers/lead/{lead.key}/change/", typed | {"own:lead_km": "14"})
    assert late.status_code == 409
    assert "km of bank 13" in text(late), "both values are shown"


def test_names_without_letters_match_nothing_and_a_past_close_is_asked_everywhere(demo, sign_in):
    client = sign_in("m1")
    Account.objects.create(key="odd", name="%")
    for name in ("²", "%", "a" * 200):
        assert client.post("/customers/leads/new/", {"name": name, "status": "new"}, follow=True).status_code == 200
    deal = {"what": "qualify", "name": "Late", "account_name": "New", "stage": "ns_enquiry", "owner": "r01"}
    lead = Lead.objects.get(name="²")
    refused = client.post(f"/customers/lead/{lead.key}/change/", deal | {"expected_close": "2026-11-01"})
    assert refused.status_code == 422
    assert "is in the past. Choose today or later, or leave it empty." in text(refused)
    last = last_revision(Deal.objects.get(key="d9001"))
    shown = client.post("/deals/", {"deal": f"{last.pk}:d9001", "expected_close": "2026-11-01"})
    assert "1 Nov 2026 is in the past" in text(shown)
    ahead = client.get("/customers/account/ac001/?month=FY2027-M12")
    assert ahead.status_code == 400
    assert "has not started yet" in text(ahead)


def test_what_is_kept_of_a_person_is_handed_out_and_erased(demo, sign_in):
    """Name, mail and phone go from every text; figures, and that it happened, stay."""
    client, figures = sign_in("a1"), ask("forecast", "FY2027", "2026-11-23")
    contact = Contact.objects.get(key="c0001")
    Contact.objects.filter(pk=contact.pk).update(email="mell.erase@weir.example", phone="+353 1 555 0199")
    contact.refresh_from_db()
    client.post(f"/customers/contact/{contact.key}/write/", {"subject": "Hello"})
    client.post("/customers/notes/", {"account": contact.account.key, "text": f"{contact.name} moves on"})
    client.post(f"/customers/contact/{contact.key}/", {"name": contact.name, "email": contact.email, "phone": contact.phone,
                                                      "job_title": "Head"})  # fmt: skip
    held = client.get(f"/customers/contact/{contact.key}/personal/").json()
    assert held["known"]["email"] == contact.email
    assert any(contact.name in one["subject"] for one in held["activities"])
    assert held["notes"]
    assert held["audit"]
    assert client.post(f"/customers/contact/{contact.key}/personal/").status_code == 422, "asked first"
    client.post(f"/customers/contact/{contact.key}/personal/", {"sure": "yes"})
    whole = text(client.get(f"/customers/account/{contact.account.key}/")) + text(
        client.get("/setup/audit/?find=contact")
    )
    for told in (contact.name, contact.email, contact.phone):
        assert told not in whole
        assert not AuditEntry.objects.filter(after__contains=told).exists()
    assert AuditEntry.objects.filter(action="personal data erased", detail=contact.key).exists()
    assert ask("forecast", "FY2027", "2026-11-23") == figures


def test_a_long_journal_is_turned_over_and_each_entry_is_told_once(demo, sign_in):
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    Activity.objects.bulk_create(
        Activity(key=f"long{n}", kind="phone", status="done", subject="Rang", deal=deal, at=NOW - timedelta(hours=n))
        for n in range(120)
    )
    told = [client.get(f"/deals/d9001/?page={number}").context for number in (1, 2, 3)]
    entries = [[*page["journal"], *page["earlier"]] for page in told]
    assert [len(part) for part in entries[:2]] == [50, 50]
    moments = [entry.at for part in entries for entry in part]
    assert moments == sorted(moments, reverse=True)
    keys = [entry.key for part in entries for entry in part if entry.kind == "activity"]
    assert sorted(keys) == sorted(deal.activities.exclude(status="planned").values_list("key", flat=True))
    for kind, others in (("note", {"change", "activity"}), ("change", {"note", "activity"})):
        page = client.get(f"/deals/d9001/?journal={kind}").context
        alone = [entry.at for part in entries for entry in part if entry.kind not in others]
        assert [entry.at for entry in (*page["journal"], *page["earlier"])] == alone[:50]


def test_new_leads_of_the_person_chosen_are_those_the_list_shows(demo, sign_in):
    client = sign_in("m1")
    Lead.objects.filter(pk=Lead.objects.filter(status="new").first().pk).update(owner=None)
    shown = {}
    for who in ("person:r08", "team:rivers", ""):
        page = client.get(f"/today/?who={who}")
        shown[who] = set(page.context["leads"])
        address = re.search(r'href="(/customers/leads/[?][^"]*status=new[^"]*)"', text(page))[1].replace("&amp;", "&")
        assert client.get(address).context["list"].page.total == page.context["leads_count"] > 0
    of_rivers = set(Lead.objects.filter(status="new", owner__team__key="rivers", owner__memberships=None))
    assert shown["team:rivers"] == of_rivers != shown["person:r08"] < of_rivers
    assert {row.lead.owner for row in client.get("/customers/leads/?owner=unassigned").context["list"].rows} == {None}
