"""Lanes of open deals: totals that agree with the list, moves through the entry checks, the last change put back."""

from datetime import date

import pytest

from tests.support.answers import text
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.process.models import EntryCheck
from wise_tally.pages.deals.board import CARDS

pytestmark = pytest.mark.django_db
LANES = "/deals/?view=lanes"


def move(client, key, before=None, **typed):
    """Move a card as its form would."""
    last = before or last_revision(Deal.objects.get(key=key))
    close = last.expected_close.isoformat() if last.expected_close else ""
    kept = {"stage": last.stage.key, "amount": f"{last.amount_minor / 100:.2f}", "expected_close": close}
    kept |= {"category": last.category.key if last.category else "", "revision": last.pk, "next": LANES}
    return client.post(f"/deals/{key}/change/", kept | typed)


@pytest.mark.parametrize("by", ["stage", "category"])
def test_lanes_hold_every_open_deal_once_with_the_money_of_the_list(demo, sign_in, by):
    """Counted naively over the snapshot; the sum of the lanes is the list's total."""
    client = sign_in("m1")
    answer = client.get(f"{LANES}&by={by}&process=new_site")
    book = books.current()
    snapshot = book.as_of(date(2026, 11, 23))
    nodes = book.reference.stages if by == "stage" else book.reference.categories
    column = snapshot.stage if by == "stage" else snapshot.category
    process = next(i for i, (key, _) in enumerate(book.reference.processes) if key == "new_site")
    for lane in answer.context["lanes"]:
        here = [
            i for i in range(len(snapshot.deal))
            if snapshot.kind[i] == 0 and nodes[int(column[i])].key == lane.key
            and book.deals.process[snapshot.deal[i]] == process
        ]  # fmt: skip
        assert lane.totals.deals == len(here)
        assert lane.totals.amount_minor == sum(int(snapshot.amount_minor[i]) for i in here)
        assert lane.totals.weighted_minor == sum(int(snapshot.weighted_minor[i]) for i in here)
        assert [card.row.amount_minor for card in lane.cards] == sorted(
            (int(snapshot.amount_minor[i]) for i in here), reverse=True
        )[:CARDS]
    listed = client.get("/deals/?process=new_site").context["list"]
    assert sum(lane.totals.amount_minor for lane in answer.context["lanes"]) == listed.amount_minor
    assert answer.context["footer"].counted == listed.total


def test_a_move_runs_the_entry_checks_and_can_be_put_back(demo, sign_in):
    client = sign_in("a1")
    before, figure = last_revision(Deal.objects.get(key="d9001")), ask("forecast", "FY2027-Q3", "2026-11-23")
    assert "Undo</button>" not in text(client.get(LANES))
    assert move(client, "d9001", stage="ns_offer").url == LANES
    assert "Terms → Offer" in text(client.get(LANES))
    assert "Terms → Offer" in text(client.get("/deals/d9001/"))
    assert "Undo</button>" not in text(client.get("/deals/d0001/")), "it belongs to the deal changed"
    undo = client.get(LANES).context["undo"]
    EntryCheck.objects.update(text="campaign is filled")
    Deal.objects.filter(key="d9001").update(campaign="")
    # What is put back was there before: nothing is asked again, no revision is left.
    assert client.post("/deals/d9001/revert/", {"revision": undo.revision, "next": LANES}).url == LANES
    EntryCheck.objects.all().delete()
    after = last_revision(Deal.objects.get(key="d9001"))
    assert after == before
    assert ask("forecast", "FY2027-Q3", "2026-11-23") == figure
    move(client, "d9001", category="early")
    DealRevision.objects.create(
        **{f.attname: getattr(after, f.attname) for f in DealRevision._meta.concrete_fields if f.name != "id"}
    )
    assert "Undo</button>" not in text(client.get(LANES)), "somebody changed the deal after it"


def test_lanes_are_hidden_and_shown_and_bad_cuts_are_refused(demo, sign_in):
    client = sign_in("m1")
    page = client.get(f"{LANES}&hide=ns_offer&hide=ns_plan&process=new_site")
    assert [lane.key for lane in page.context["lanes"]] == ["ns_enquiry", "ns_survey", "ns_terms"]
    assert "Show Offer" in text(page)
    refused = client.get(f"{LANES}&by=colour")
    assert refused.status_code == 400
    assert "Choose one of: stage, category" in text(refused)
    own = sign_in("r01").get(LANES)
    assert {card.row.owner_name for lane in own.context["lanes"] for card in lane.cards} >= {"Iva Marrin"}
    assert all(
        card.row.owner_name == "Iva Marrin" or not card.row.may_change
        for lane in own.context["lanes"]
        for card in lane.cards
    )
    past = client.get(f"{LANES}&as_of=2026-11-16")
    assert 'aria-label="Move' not in text(past)
