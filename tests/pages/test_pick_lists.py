"""Entries of pick lists: retired they are no longer offered, stay where they were used, and come back."""

import json
import re
from datetime import timedelta
from html import escape

import pytest

from tests.conftest import NOW
from tests.support.answers import text
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Account, Deal, DealLine, Lead, OwnField, OwnFieldValue, Partner, Product
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.process.models import Category, DealType, LostReason, Process, Source, Stage
from wise_tally.package.workspace_file import FILE, take_file, write_file

pytestmark = pytest.mark.django_db


def retire(client, slug, key, is_retired=True):
    """Tick or untick “Retired” on the page of an entry; the other values stay."""
    address = f"/setup/lists/{slug}/{key}/"
    kept = client.get(address).context["form"].initial
    posted = {name: value for name, value in kept.items() if name != "retired" and value is not None}
    posted |= {name: minor / 100 for name, minor in posted.items() if name.endswith("_minor")}
    assert client.post(address, posted | {"retired": "on"} if is_retired else posted).status_code == 302


@pytest.mark.parametrize(
    ("slug", "model", "form"),
    [
        ("sources", Source, "details"),
        ("deal-types", DealType, "details"),
        ("partners", Partner, "details"),
        ("own-fields", OwnField, "details"),
        ("products", Product, "lines"),
    ],
)
def test_a_retired_entry_is_no_longer_offered_but_stays_where_it_is(demo, sign_in, slug, model, form):
    client, holder = sign_in("m1"), Deal.objects.get(key="d9001")
    other = Deal.objects.filter(process=holder.process).exclude(pk=holder.pk).last()
    OwnField.objects.create(key="gone", applies_to="deal", name="Gone", kind="text")
    entry = model.objects.get(key="gone") if slug == "own-fields" else model.objects.order_by("pk")[0]
    Deal.objects.filter(pk=other.pk).update(source="", deal_type="", partner=None)
    others = {
        "sources": {"source": entry.name},
        "deal-types": {"deal_type": entry.name},
        "partners": {"partner": entry},
    }
    Deal.objects.filter(pk=holder.pk).update(**others.get(slug, {}))
    OwnFieldValue.objects.create(field_id=OwnField.objects.get(key="gone").pk, subject_key="d9001", value="kept")
    DealLine.objects.filter(deal=other).delete()
    if slug == "products":
        DealLine.objects.create(deal=holder, product=entry, quantity_10000ths=10_000, unit_price_minor=100)

    def offered():
        return [f">{escape(entry.name)}<" in re.sub(r"\s+<", "<", client.get(f"/deals/{deal.key}/part/{form}/").text)
                for deal in (holder, other)]  # fmt: skip

    assert offered() == [True, True]
    retire(client, slug, entry.key)
    assert offered() == [True, False]
    assert "retired" in text(client.get(f"/setup/lists/{slug}/"))
    if slug in ("sources", "deal-types"):
        assert "is retired. Open it and bring it back" in text(
            client.post(f"/setup/lists/{slug}/", {"name": entry.name.upper()})
        )
    retire(client, slug, entry.key, False)
    assert offered() == [True, True]


def test_a_lead_keeps_the_values_of_retired_entries_when_it_is_saved(demo, sign_in):
    client, lead = sign_in("m1"), Lead.objects.filter(status="new").first()
    field = OwnField.objects.create(key="gone", applies_to="lead", name="Gone", kind="text", retired=True)
    OwnFieldValue.objects.create(field=field, subject_key=lead.key, value="kept")
    Source.objects.filter(name=lead.source).update(retired=True)
    form = client.get(f"/customers/lead/{lead.key}/").context["form"].initial
    assert client.post(f"/customers/lead/{lead.key}/change/", form | {"what": "save", "phone": "1"}).status_code == 302
    lead.refresh_from_db()
    assert (lead.phone, lead.source) == ("1", form["source"])
    assert OwnFieldValue.objects.get(field=field).value == "kept"


def test_retired_loss_reasons_are_not_suggested_and_the_package_carries_them(demo, sign_in, tmp_path):
    client, reason = sign_in("m1"), LostReason.objects.first()
    suggested = f'<option value="{reason.name}">'
    lost = {"stage": "ns_lost", "amount": "420000.00", "expected_close": "2026-12-22", "closing": "yes"}
    lost |= {"revision": last_revision(Deal.objects.get(key="d9001")).pk}
    assert suggested in client.post("/deals/d9001/change/", lost).text
    retire(client, "lost-reasons", reason.key)
    assert suggested not in client.post("/deals/d9001/change/", lost).text
    write_file(tmp_path)
    LostReason.objects.update(retired=False)
    take_file(json.loads((tmp_path / FILE).read_text()))
    assert list(LostReason.objects.filter(retired=True)) == [reason]


def test_territories_teams_and_processes_are_retired_and_brought_back(demo, sign_in):
    """No longer offered for what is new, named and counted where they are; nobody and no team is left in a retired team."""
    client = sign_in("a1")
    retire(client, "territories", "north_fells")
    assert "North Fells</option>" not in client.get("/customers/accounts/new/").text
    holder = Account.objects.filter(territory__key="north_fells").first()
    assert "North Fells</option>" in client.get(f"/customers/account/{holder.key}/change/").text
    assert "North Fells" in client.get("/forecast/?by=territory").text
    under = {"node": "territory:lakeland", "above": "territory:north_fells", "from_on": "2026-11-23"}
    assert "is retired. Choose another" in text(client.post("/setup/tree/territories/", under))
    full = client.post("/setup/lists/teams/fells/", {"name": "Fells team", "manager": "m2", "retired": "on"})
    assert "Move them first" in text(full)
    client.post("/setup/lists/teams/", {"name": "New team"})
    retire(client, "teams", "new_team")
    moved = {"node": "person:r01", "above": "team:new_team", "from_on": "2026-11-23"}
    assert "is retired. Choose another" in text(client.post("/setup/tree/teams/", moved))
    assert 'value="team:new_team"' not in client.get("/setup/tree/teams/").text.split('id="above"')[1]
    pasted = client.post("/setup/start/", {"people": "Ann Mell, ann@mell.example, New team", "preview": "yes"})
    assert "does not exist" in text(pasted)
    retire(client, "teams", "new_team", is_retired=False)
    assert client.post("/setup/tree/teams/", moved).status_code == 302
    assert client.post("/setup/processes/", {"process": "renewal", "what": "retire"}).status_code == 302
    assert "Renewal and extension: " not in client.get("/deals/new-deal/").text
    new = {"name": "New", "stage": "rn_review", "amount": "5", "owner": "r01", "account": ""}
    refused = client.post("/deals/new-deal/", new | {"stage": Stage.objects.filter(process__key="renewal")[0].key})
    assert refused.status_code == 422
    assert "Renewal and extension" in client.get("/conversion/?process=renewal").text
    assert "is the only process" in text(client.post("/setup/processes/", {"process": "new_site", "what": "retire"}))
    client.post("/setup/processes/", {"process": "renewal", "what": "restore"})
    assert "Renewal and extension: " in client.get("/deals/new-deal/").text


def test_a_process_is_copied_as_it_is_today(demo, sign_in):
    """Stages, the rules that hold, checks and guides; retired stages and rules to come are not."""
    client, source = sign_in("m1"), Process.objects.get(key="new_site")
    Stage.objects.get(key="ns_plan").checks.create(position=9, text="next step is filled")
    # A rule that leaves category and days as they were before, which the stage's own columns do not say.
    offer = Stage.objects.get(key="ns_offer")
    offer.rules.create(effective_at=NOW - timedelta(days=2), probability_bp=6_100)
    Stage.objects.filter(pk=offer.pk).update(category=Category.objects.get(key="early"), typical_days_hundredths=100)
    reference_changed()
    shown = {row.stage.name: row.values for row in client.get("/setup/stages/new_site/").context["rows"]}
    assert client.post("/setup/processes/", {"name": "Repeat site", "start": "copy:new_site"}).status_code == 302
    made = Process.objects.get(name="Repeat site")
    copied = {row.stage.name: row.values for row in client.get(f"/setup/stages/{made.key}/").context["rows"]}
    assert copied == shown
    checks = [list(p.stages.get(name="Station plan").checks.values_list("position", "text")) for p in (source, made)]
    assert checks[0] == checks[1] != []
    assert not set(made.stages.values_list("key", flat=True)) & set(source.stages.values_list("key", flat=True))


def test_categories_are_put_in_order(demo, sign_in):
    client = sign_in("m1")
    before = list(Category.objects.order_by("rank").values_list("key", flat=True))
    client.post("/setup/order-of/categories/", {"order": ",".join(reversed(before))})
    assert list(Category.objects.order_by("rank").values_list("key", flat=True)) == before[::-1]
    client.post("/setup/order-of/categories/", {"key": before[-1], "to": "down"})
    found = list(Category.objects.order_by("rank").values_list("key", "rank"))
    assert [key for key, _ in found[:2]] == [before[-2], before[-1]]
    assert [rank for _, rank in found] == list(range(1, len(before) + 1))
    assert client.post("/setup/order-of/sources/", {"order": "a"}).status_code == 404
