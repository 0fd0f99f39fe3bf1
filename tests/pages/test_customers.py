"""Accounts with what belongs to them, the search, what is typed in a tab left open, what is kept of a person."""

from datetime import date, timedelta

import pytest
from django.contrib.auth.models import User
from django.test import Client

from tests.conftest import NOW
from tests.support.answers import text
from tests.support.world import ask
from wise_tally.domain import formats as filters
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import (
    Account,
    Activity,
    Contact,
    Deal,
    Invoice,
    Lead,
    Note,
    Order,
    OwnField,
)
from wise_tally.domain.org.models import AuditEntry

TODAY = date(2026, 11, 23)


pytestmark = pytest.mark.django_db


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
    typed = {"name": "First", "kind": "organisation", "expected": form.context["expected"]}
    assert client.post("/customers/account/ac001/change/", typed).status_code == 302
    late = client.post("/customers/account/ac001/change/", typed | {"name": "Second"})
    assert late.status_code == 409
    assert "First" in text(late)
    assert 'value="Second"' in text(late)
    again = typed | {"name": "Second", "expected": late.context["expected"]}
    assert client.post("/customers/account/ac001/change/", again).status_code == 302
    assert Account.objects.get(key="ac001").name == "Second"


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
    before = page.context["expected"]
    typed = {"what": "save", "name": "Far Lead", "status": "new", "expected": before, "own:lead_km": "13"}
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
