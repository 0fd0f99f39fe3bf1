"""What if on its page: tried alone, applied as one, refused as one."""

import pytest

from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.process.models import Stage

pytestmark = pytest.mark.django_db
PAGE = "/forecast/what-if/"


def row(context, name):
    return next(found for found in context["compared"] if found.words == name)


def typed(answer, **more):
    """The page's form as it stands, with some fields typed anew."""
    form = {"what": "try"}
    for deal in answer.context["deals"]:
        form[f"outcome:{deal.row.key}"] = deal.values.get("outcome", "")
    return form | more


def test_a_scratch_copy_moves_figures_of_its_owner_only_and_is_applied_and_put_back(demo, sign_in):
    head, other = sign_in("m1", apart=True), sign_in("m3", apart=True)
    before = DealRevision.objects.count()
    first = head.get(PAGE)
    form = typed(first, **{"outcome:d9001": "won", "stage:ns_offer": "40"})
    head.post(PAGE, form)
    tried = head.get(PAGE)
    amount = next(d.row.amount_minor for d in tried.context["deals"] if d.row.key == "d9001")
    assert row(tried.context, "won").change == amount
    assert row(tried.context, "chance of quota").change > 0
    assert row(tried.context, "chance of quota").texts[2].endswith("pts")
    assert [row(tried.context, name).tone for name in ("won", "gap to quota")] == ["up", "up"], (
        "a smaller gap is welcome"
    )
    assert "1 deal and 1 stage changed" in tried.content.decode()
    assert DealRevision.objects.count() == before
    assert row(other.get(PAGE).context, "won").change == 0, "the copy is its owner's alone"
    # Lost wants a reason; nothing is lost of what was typed.
    head.post(PAGE, typed(tried, **{"outcome:d9001": "lost"}))
    refused = head.post(PAGE, {"what": "apply"})
    assert refused.status_code == 422
    assert "Say when and why" in refused.content.decode()
    assert "No reason is given" in head.post(PAGE, {"what": "apply", "closing": "yes"}).content.decode()
    assert 'value="lost" selected' in refused.content.decode()
    done = head.post(PAGE, {"what": "apply", "closing": "yes", "lost_reason": "went to a neighbour"})
    assert done.status_code == 302
    last = DealRevision.objects.filter(deal__key="d9001").order_by("-pk").first()
    assert (last.stage.kind, last.lost_reason) == ("lost", "went to a neighbour")
    rules = Stage.objects.get(key="ns_offer").rules.order_by("-effective_at")
    assert rules.first().probability_bp == 4_000
    assert head.get(PAGE).context["scratch"].is_empty
    head.post("/deals/", {"what": "undo"})
    assert last_revision(Deal.objects.get(key="d9001")).stage.kind == "open"


def test_what_cannot_be_applied_changes_nothing_and_says_why(demo, sign_in):
    rep, head = sign_in("r08", apart=True), sign_in("m1", apart=True)
    form = typed(rep.get(PAGE), **{"amount:d9001": "1.00,5", "close:d9001": "soon"})
    wrong = rep.post(PAGE, form)
    assert wrong.status_code == 422
    for words in ("“1.00,5” is not valid", "“soon” is not a date"):
        assert words in wrong.content.decode()
    assert 'value="1.00,5"' in wrong.content.decode(), "what was typed stays"
    rep.post(PAGE, typed(rep.get(PAGE), **{"amount:d9001": "390000", "stage:ns_offer": "40"}))
    # A rep may not set probabilities: nothing at all is applied.
    assert rep.post(PAGE, {"what": "apply"}).status_code == 403
    rep.post(PAGE, typed(rep.get(PAGE), **{"amount:d9001": "390000", "stage:ns_offer": ""}))
    # Somebody else changes the deal meanwhile: the copy stays, the book too.
    deal = Deal.objects.get(key="d9001")
    seen = DealRevision.objects.filter(deal=deal).order_by("-pk").first()
    head.post(
        "/deals/d9001/change/",
        {"revision": seen.pk, "stage": seen.stage.key, "amount": "410000", "expected_close": "2026-12-22"},
    )
    clash = rep.post(PAGE, {"what": "apply"})
    assert clash.status_code == 422
    assert "has changed" in clash.content.decode()
    assert rep.get(PAGE).context["scratch"].deals["d9001"]["amount"] == 39_000_000
    rep.post(PAGE, {"what": "discard"})
    assert rep.get(PAGE).context["scratch"].is_empty
    past = head.post(PAGE + "?as_of=2026-10-01", {"what": "apply"})
    assert "look at today" in past.content.decode()
