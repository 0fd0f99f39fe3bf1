"""Several deals changed at once: shown first, all or nothing, put back together."""

import pytest

from tests.support.answers import text
from tests.support.world import ask
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Account, Deal, DealRevision, Lead
from wise_tally.domain.org.models import OutboxMessage, Person
from wise_tally.domain.process.models import EntryCheck

pytestmark = pytest.mark.django_db
QUARTER, AS_OF = "FY2027-Q3", "2026-11-23"


def ticked(client, number, query="process=new_site&stage=ns_offer"):
    """The boxes of the first deals of a list, as its form would post them."""
    rows = client.get(f"/deals/?{query}").context["rows"][:number]
    return [f"{row.revision}:{row.key}" for row in rows], [row.key for row in rows]


def test_what_would_change_is_shown_then_done_and_put_back_together(demo, sign_in):
    client = sign_in("m1")
    boxes, keys = ticked(client, 6)
    before = {key: last_revision(Deal.objects.get(key=key)) for key in keys}
    figures, count = ask("forecast", QUARTER, AS_OF, by="person"), DealRevision.objects.count()
    edit = {
        "deal": boxes,
        "owner": "r02",
        "category": "commit",
        "expected_close": "2026-12-20",
        "territory": "lakeland",
    }
    shown = text(client.post("/deals/", edit))
    assert "Not saved yet." in shown
    assert "expected close" in shown
    assert "→ Odran Tully" in shown
    assert DealRevision.objects.count() == count
    assert client.post("/deals/", edit | {"confirmed": "yes", "next": "/deals/?x=1"}).url == "/deals/?x=1"
    for key in keys:
        last = last_revision(Deal.objects.get(key=key))
        assert (last.owner.key, last.category.key, str(last.expected_close), last.territory.key) == (
            "r02", "commit", "2026-12-20", "lakeland")  # fmt: skip
        assert (last.stage, last.amount_minor) == (before[key].stage, before[key].amount_minor)
    assert ask("forecast", QUARTER, AS_OF, by="person") != figures
    assert "Undo" in text(client.get("/deals/"))
    assert client.post("/deals/", {"what": "undo"}).status_code == 302
    assert ask("forecast", QUARTER, AS_OF, by="person") == figures
    for key in keys:
        last = last_revision(Deal.objects.get(key=key))
        assert (last.owner, last.territory, last.category) == (
            before[key].owner,
            before[key].territory,
            before[key].category,
        )
    assert "Undo" not in text(client.get("/deals/"))


def test_one_deal_that_cannot_change_stops_all_and_says_why(demo, sign_in):
    client, count = sign_in("m1"), DealRevision.objects.count()
    boxes, keys = ticked(client, 3)
    others, _ = ticked(client, 1, "process=renewal")
    refused = client.post("/deals/", {"deal": [*boxes, *others], "stage": "ns_survey", "confirmed": "yes"})
    assert refused.status_code == 422
    assert "is a stage of another process" in text(refused)
    EntryCheck.objects.filter(position=1).update(text="campaign is filled")
    Deal.objects.filter(key__in=keys).update(campaign="")
    refused = client.post("/deals/", {"deal": boxes, "stage": "ns_terms", "confirmed": "yes"})
    assert text(refused).count("campaign must be filled") == 3
    old = [box.replace(box.split(":")[0], "1", 1) for box in boxes]
    assert "Somebody else has changed this deal in the meantime." in text(
        client.post("/deals/", {"deal": old, "category": "early"})
    )
    assert DealRevision.objects.count() == count
    client.post("/deals/", {"deal": boxes, "stage": "ns_won"})
    assert not OutboxMessage.objects.exists(), "a preview sends nothing"
    asked = client.post("/deals/", {"deal": boxes, "stage": "ns_lost", "confirmed": "yes"})
    assert 'name="lost_reason"' in text(asked), "a loss asks for its reason, bulk never invents one"
    assert DealRevision.objects.count() == count
    refused = client.post("/deals/", {"deal": boxes, "stage": "ns_lost", "confirmed": "yes", "closing": "yes"})
    assert (refused.status_code, DealRevision.objects.count()) == (422, count)
    won = {"stage": "ns_won", "confirmed": "yes", "closing": "yes", "closed_on": "2026-11-23"}
    client.post("/deals/", {"deal": boxes} | won)
    assert OutboxMessage.objects.count() == 3
    last = last_revision(Deal.objects.get(key=keys[0]))
    assert (
        client.post(
            f"/deals/{keys[0]}/change/", {"stage": "ns_offer", "amount": "1.00", "revision": last.pk}
        ).status_code
        == 302
    )
    assert client.post("/deals/", {"what": "undo"}).status_code == 409


BAD = [
    ({}, "0 deals are selected"),
    ({"deal": ["x:d9001", "5"]}, "0 deals are selected"),
    ({"deal": ["1:d9001"]}, "Choose at least one change: stage, owner, close date, category or territory."),
    ({"deal": ["1:nowhere"], "owner": "r02"}, "is not there"),
    ({"deal": ["1:d9001"], "owner": "nobody"}, "is not a valid owner"),
    ({"deal": ["1:d9001"], "expected_close": "soon"}, "is not a date"),
    ({"deal": [f"1:d{n}" for n in range(501)], "owner": "r02"}, "1 to 500 at once"),
]


@pytest.mark.parametrize(("typed", "says"), BAD)
def test_bad_choices_are_refused(demo, sign_in, typed, says):
    answer = sign_in("m1").post("/deals/", typed)
    assert answer.status_code in (404, 422)
    assert says in text(answer)


def test_a_rep_changes_only_own_deals_together(demo, sign_in):
    client, count = sign_in("r01"), DealRevision.objects.count()
    mine, _ = ticked(client, 2, "status=open")
    foreign = last_revision(Deal.objects.get(key="d9001"))
    refused = client.post("/deals/", {"deal": [*mine, f"{foreign.pk}:d9001"], "category": "early", "confirmed": "yes"})
    assert refused.status_code == 404, "a deal of others looks like one that is not there"
    assert Deal.objects.get(key="d9001").name not in text(refused)
    assert DealRevision.objects.count() == count
    assert client.post("/deals/", {"deal": mine, "category": "early", "confirmed": "yes"}).status_code == 302


def test_all_deals_of_a_list_are_previewed_and_changed_at_once(demo, sign_in):
    client = sign_in("m1")
    wanted = "/deals/?who=person:r08&f=stage:is:Offer|Terms|Enquiry&plain=1"
    keys = {client.get(wanted).context["list"].total}
    preview = client.post(wanted, {"all": "yes", "category": "early"})
    changes = preview.context["changes"]
    assert len(changes) + preview.context["unchanged"] == keys.pop() > 1
    assert len(preview.context["deals"]) == len(changes) + preview.context["unchanged"]
    client.post("/deals/", {"deal": preview.context["deals"], "category": "early", "confirmed": "yes"})
    assert all(last_revision(change.deal).category.key == "early" for change, _ in changes)


@pytest.mark.parametrize(
    ("kind", "fields"),
    [("account", {"owner": "r05", "territory": "lakeland"}), ("lead", {"owner": "r05", "status": "working"})],
)
def test_several_accounts_or_leads_are_changed_and_put_back(demo, sign_in, kind, fields):
    model, client = {"account": Account, "lead": Lead}[kind], sign_in("m1")
    open_ones = model.objects.all() if kind == "account" else model.objects.filter(status__in=("new", "working"))
    keys = list(open_ones.order_by("key").values_list("key", flat=True)[:3])

    other = "territory" if kind == "account" else "status"

    def state():
        found = [(r.key, r.owner, getattr(r, other)) for r in model.objects.filter(key__in=keys)]
        return {key: tuple(getattr(value, "key", value) for value in values) for key, *values in found}

    before = state()
    posted = {"kind": kind, "record": keys, **fields, "next": f"/customers/{kind}s/"}
    assert client.post("/customers/several/", posted).url == f"/customers/{kind}s/"
    assert set(state().values()) == {tuple(fields.values())}
    assert client.post("/customers/several/", {"kind": kind, "what": "undo"}).status_code == 302
    assert state() == before
    client.post("/customers/several/", posted)
    model.objects.filter(key=keys[0]).update(owner=Person.objects.get(key="r01"))
    undone = client.post("/customers/several/", {"kind": kind, "what": "undo"})
    assert (undone.status_code, state()[keys[1]]) == (422, tuple(fields.values())), (
        "one was changed since, so nothing is"
    )
    for bad in ({"record": []}, {"owner": "nobody"}, {"owner": "", "status": "", "territory": ""}, {"kind": "deal"}):
        assert client.post("/customers/several/", posted | bad).status_code == 422, bad
    assert sign_in("r01").post("/customers/several/", posted).status_code in (403, 404)
