"""Leads: taken in, worked on by steps, known by what they say, qualified into deals."""

import re
from datetime import UTC, date, datetime, timedelta

from tests.support.answers import text
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import (
    Account,
    Contact,
    Deal,
    Lead,
)
from wise_tally.domain.process.models import LeadStep

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
