"""What belongs to a deal: saved as a whole, refused on an old state with both values, put back, told in the history."""

import re

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.support.answers import text
from tests.support.world import ask
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal, DealRevision, KeptFile, OwnField, OwnFieldValue, Product
from wise_tally.domain.deals.parts import part_text
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import AuditEntry
from wise_tally.domain.process.models import Stage

pytestmark = pytest.mark.django_db
BIG = "/deals/d9001/"


def expected(part, key="d9001"):
    return part_text(Deal.objects.get(key=key), part, today())


def lines(*rows, **more):
    """Lines as their form posts them."""
    names = ("product", "quantity_10000ths", "unit_price_minor", "unit_cost_minor", "discount_bp")
    return {f"{n}-{i}": v for i, row in enumerate(rows) for n, v in zip(names, row, strict=True)} | more


def test_lines_make_the_amount_and_are_put_back_with_it(demo, sign_in):
    client, deal = sign_in("r08"), Deal.objects.get(key="d9001")
    before, kept = last_revision(deal).amount_minor, expected("lines")
    posted = lines(("cabin", "2", "10000", "7000", "5"), ("calibration", "1.5", "", "", ""), ("", "", "", "", ""),
                   from_lines="yes", expected=kept)  # fmt: skip
    assert client.post(f"{BIG}part/lines/", posted).status_code == 302
    # 2 × 10 000 less 5 %, and 1.5 × the product's own price of 1 250.
    assert last_revision(deal).amount_minor == 1_900_000 + 187_500
    page = text(client.get(BIG))
    assert "Amount calculated from products" in page
    assert "6\u00a0" in page or "margin" in page
    assert "Lines saved" in page
    assert any("lines " in change for entry in client.get(BIG).context["journal"] for change in entry.changes)
    assert client.post(f"{BIG}put-back/").status_code == 302
    assert (last_revision(deal).amount_minor, expected("lines")) == (before, kept)
    typed = {"stage": "ns_terms", "amount": "5.00", "expected_close": "2026-12-22", "revision": last_revision(deal).pk}
    client.post(f"{BIG}change/", typed)
    assert "Amount entered by hand (differs from the products)" in text(client.get(BIG))


def test_bad_lines_keep_what_was_typed_and_change_nothing(demo, sign_in):
    client, count = sign_in("r08"), DealRevision.objects.count()
    kept = expected("lines")
    posted = lines(
        ("moon", "2", "1", "1", ""), ("cabin", "-1", "abc", "1", "101"), ("", "3", "1", "", ""), from_lines="yes"
    )
    refused = client.post(f"{BIG}part/lines/", posted | {"expected": kept})
    page = text(refused)
    assert refused.status_code == 422
    for words in (
        "Row 1, product: “moon”",
        "Row 2, quantity",
        "Row 2, unit price: “abc”",
        "above 100",
        "Row 3, product",
    ):
        assert words in page
    assert 'value="abc"' in page
    assert (expected("lines"), DealRevision.objects.count()) == (kept, count)


def test_two_people_at_once_see_both_values_and_choose(demo, sign_in):
    kept = expected("next")
    client = sign_in("m1")
    client.post(f"{BIG}part/next/", {"next_step": "Ring the chair", "next_step_on": "2026-12-01", "expected": kept})
    client = sign_in("r08")
    mine = {"next_step": "Send <b>papers</b>", "next_step_on": "2026-12-02", "expected": kept}
    refused = client.post(f"{BIG}part/next/", mine)
    assert refused.status_code == 409
    assert "Ring the chair" in text(refused)
    assert "Send &lt;b&gt;papers&lt;/b&gt;" in text(refused), "markup is text"
    stale = {"stage": "ns_offer", "amount": "1.00", "revision": "1"}
    told = text(client.post(f"{BIG}change/", stale))
    for words in (
        "Joss Merrow changed this deal on",
        "stage is now Terms, you entered Offer",
        "420\u00a0000.00, you entered 1.00",
    ):
        assert words in told
    again = mine | {"expected": refused.context["expected"]}
    assert client.post(f"{BIG}part/next/", again).status_code == 302
    assert Deal.objects.get(key="d9001").next_step == "Send <b>papers</b>"
    assert "<b>papers" not in text(client.get(BIG))
    assert AuditEntry.objects.filter(action="deal next step changed", detail="d9001").count() == 2


def test_credit_moves_the_figures_from_today_on_only(demo, sign_in):
    client = sign_in("m1")
    before = ask("forecast", "FY2027-Q3", "2026-11-22", by="person")
    assert client.post(f"{BIG}part/credits/", {"person-0": "r08", "share_bp-0": "50"}).status_code == 422
    shares = {"person-0": "r08", "share_bp-0": "60", "person-1": "r09", "share_bp-1": "40"}
    assert client.post(f"{BIG}part/credits/", shares | {"expected": expected("credits")}).status_code == 302
    then, now = (ask("forecast", "FY2027-Q3", day, by="person") for day in ("2026-11-22", "2026-11-23"))
    assert then == before
    assert float(now["r09"]["open"]) - float(before["r09"]["open"]) == pytest.approx(168_000)
    client.post(f"{BIG}put-back/")
    assert ask("forecast", "FY2027-Q3", "2026-11-23", by="person")["r09"]["open"] == before["r09"]["open"]


def test_payments_contacts_and_details(demo, sign_in):
    OwnField.objects.create(key="basin", applies_to="deal", name="basin", kind="number")
    client, deal = sign_in("r08"), Deal.objects.get(key="d9001")
    plan = {"due_on-0": "2027-01-31", "amount_minor-0": "1000", "every-0": "month", "times-0": "12"}
    assert client.post(f"{BIG}part/payments/", plan | {"expected": expected("payments")}).status_code == 302
    assert "12\u00a0000.00</a> in total" in text(client.get(BIG))
    once = {"due_on-0": "2027-01-31", "amount_minor-0": "1000", "every-0": "", "times-0": "3"}
    assert "made once has no number" in text(client.post(f"{BIG}part/payments/", once))
    contact = deal.account.contacts.order_by("key").first()
    decides = {"contact-0": contact.key, "role-0": "decides"}
    client.post(f"{BIG}part/contacts/", decides | {"expected": expected("contacts")})
    assert deal.contacts.get().role == "decides"
    details = {"name": "Barrage", "account": deal.account.name.upper(), "source": "Referral", "campaign": "Autumn",
               "competitor": "Nobody & Sons", "next_step": "Go", "own:basin": "12.5", "expected": expected("details")}  # fmt: skip
    assert client.post(f"{BIG}part/details/", details | {"own:basin": "wet"}).status_code == 422
    refused = client.post(f"{BIG}part/details/", details | {"account": "Barage Nowhere"})
    assert "not found. Choose one of" in text(refused)
    assert client.post(f"{BIG}part/details/", details).status_code == 302
    deal.refresh_from_db()
    assert (deal.name, deal.source, deal.competitor) == ("Barrage", "Referral", "Nobody & Sons")
    assert OwnFieldValue.objects.get(subject_key="d9001").value == "12.5"
    assert ask("forecast", "FY2027-Q3", "2026-11-23", by="source")["Referral"]["deals_open"] > 0
    client.post(f"{BIG}put-back/")
    deal.refresh_from_db()
    left = OwnFieldValue.objects.filter(subject_key="d9001").values_list("field__key", flat=True)
    assert (deal.source, list(left)) == ("Tender portal", ["site_access"])


def test_files_of_a_dangerous_kind_or_size_are_refused(demo, sign_in, settings):
    client = sign_in("r08")
    for name, size, says in (("run.exe", 10, "This file type is not allowed"), ("page.html", 10, "This file type is not allowed"),
                             ("map.svg", 10, "This file type is not allowed"), ("scan.pdf", 30_000_000, "30 MB")):  # fmt: skip
        refused = client.post(f"{BIG}files/", {"file": SimpleUploadedFile(name, b"x" * size)})
        assert refused.status_code == 422
        assert says in text(refused)
    assert not KeptFile.objects.exists()
    client.post(f"{BIG}files/", {"file": SimpleUploadedFile("..\\..\\plan <b>.pdf", b"%PDF")})
    kept = KeptFile.objects.get()
    assert kept.name == "plan <b>.pdf"
    answer = client.get(f"{BIG}files/{kept.key}/")
    assert (answer.content, answer["Content-Type"]) == (b"%PDF", "application/octet-stream")
    assert answer["Content-Disposition"].startswith("attachment")
    client.post(f"{BIG}files/", {"away": kept.key})
    assert not KeptFile.objects.exists()
    assert "file deleted: plan &lt;b&gt;.pdf" in text(client.get(BIG))


def test_the_way_on_is_shown_with_what_is_missing_and_a_past_close_is_asked(demo, sign_in):
    client, key = sign_in("m1"), "d9001"
    Stage.objects.get(key="ns_won").checks.create(position=1, text="campaign is filled")
    page = client.get(BIG)
    assert [step.stage.key for step in page.context["steps"]] == ["ns_offer"]
    assert [step.stage.key for step in page.context["closings"]] == ["ns_won", "ns_lost"]
    assert "campaign must be filled" in text(page)
    last = last_revision(Deal.objects.get(key=key))
    won = {"stage": "ns_won", "amount": "420000.00", "expected_close": "2026-12-22", "revision": last.pk}
    won |= {"closing": "yes"}
    refused = client.post(f"{BIG}change/", won)
    assert refused.status_code == 422
    assert 'name="detail:campaign"' in text(refused)
    past = won | {"stage": "ns_offer", "expected_close": "2026-11-02"}
    asked = client.post(f"{BIG}change/", past)
    assert asked.status_code == 422
    assert "Confirm that this is intended" in text(asked)
    assert client.post(f"{BIG}change/", past | {"past_meant": "yes"}).status_code == 302


def test_a_won_deal_opened_again_keeps_its_history(demo, sign_in):
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    for stage in ("ns_won", "ns_terms"):
        posted = {"stage": stage, "amount": "420000.00", "expected_close": "2026-12-22"}
        client.post(f"{BIG}change/", posted | {"revision": last_revision(deal).pk, "closing": "yes"})
    words = [change for entry in client.get(BIG).context["journal"] for change in entry.changes]
    assert "Terms → Won" in words
    assert "reopened: Won → Terms" in words
    typed = {"stage": "ns_terms", "amount": "420000.00", "expected_close": "2026-12-22", "probability": "33.5"}
    client.post(f"{BIG}change/", typed | {"revision": last_revision(deal).pk})
    assert last_revision(deal).probability_bp == 3_350
    Stage.objects.filter(key="ns_terms").update(own_probability=False)
    refused = client.post(f"{BIG}change/", typed | {"probability": "20", "revision": last_revision(deal).pk})
    assert "The probability cannot be changed per deal in" in text(refused)


def test_a_new_deal_and_its_guide_and_quote(demo, sign_in):
    client = sign_in("r01")
    typed = {"name": "Weir gauge", "account": "nobody known", "stage": "ns_survey", "amount": "12000", "owner": "r01",
             "expected_close": "2026-11-01"}  # fmt: skip
    refused = client.post("/deals/new-deal/", typed)
    assert refused.status_code == 422
    assert "is in the past. Choose today or later, or leave it empty." in text(refused)
    assert 'value="12000"' in text(refused)
    typed |= {"account": "", "expected_close": "2027-01-15", "next_step": "Visit", "next_step_on": "2026-11-30"}
    assert client.post("/deals/new-deal/", typed | {"owner": "r08"}).status_code == 422, "a rep adds own deals"
    before = ask("forecast", "FY2027-Q4", "2026-11-23", by="person")["r01"]["open"]
    made = client.post("/deals/new-deal/", typed)
    deal = Deal.objects.get(name="Weir gauge")
    assert made.url == f"/deals/{deal.key}/"
    assert float(ask("forecast", "FY2027-Q4", "2026-11-23", by="person")["r01"]["open"]) == float(before) + 12_000
    page = text(client.get(made.url))
    assert "Stage guide: Site survey" in page
    client.post(f"{made.url}tick/", {"entry": "Access for the van", "done": "yes"})
    assert "✓ Access for the van" in text(client.get(made.url))
    assert client.post(f"{made.url}tick/", {"entry": "no such entry", "done": "yes"}).status_code == 404
    Product.objects.filter(key="cabin").update(name="Cabin & roof")
    client.post(f"{made.url}part/lines/", lines(("cabin", "1", "", "", "10"), from_lines="yes"))
    quote = text(client.get(f"{made.url}quote/"))
    assert "Cabin &amp; roof" in quote
    assert "10\u00a0620.00" in quote


def test_what_is_typed_into_lines_payments_and_shares_is_added_up_before_it_is_saved(demo, sign_in):
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    before = list(deal.lines.values_list("pk", flat=True))

    def said(part, **typed):
        answer = client.post(f"{BIG}part/{part}/", {"tool": "sums", **typed})
        assert answer.status_code == 200
        return " ".join(answer.context["sums"].words).replace("\u00a0", " "), answer.context["sums"].amounts

    lines = {"product-0": "calibration", "quantity_10000ths-0": "2", "unit_price_minor-0": "1.5k", "discount_bp-0": "10",
             "product-1": "calibration", "quantity_10000ths-1": "0", "unit_price_minor-1": "9"}  # fmt: skip
    words, amounts = said("lines", **lines)
    assert "2 lines come to 2 700.00." in words
    assert "The deal’s amount is 420 000.00: 417 300.00 more." in words
    assert "Row 2 has quantity 0." in words
    assert [amount.replace("\u00a0", " ") for amount in amounts] == ["2 700.00", "0.00"]
    words, _ = said(
        "lines", **lines, **{"from_lines": "yes", "product-2": "calibration", "quantity_10000ths-2": "many"}
    )
    assert words.startswith("2 lines come to 2 700.00. Row 2"), "what cannot be read counts as nothing"
    pay = {"due_on-0": "2027-02-01", "amount_minor-0": "400k", "due_on-1": "2027-03-01", "amount_minor-1": "10k",
           "every-1": "month", "times-1": "3"}  # fmt: skip
    assert (
        said("payments", **pay)[0]
        == "2 payments of 430 000.00 in all. The deal’s amount is 420 000.00: 10 000.00 less."
    )
    assert (
        "without end"
        in said("payments", **pay, **{"due_on-2": "2027-02-01", "amount_minor-2": "1", "every-2": "year"})[0]
    )
    assert (
        said("credits", **{"person-0": "r08", "share_bp-0": "60"})[0] == "The shares add up to 60 %: 40 % are missing."
    )
    assert list(deal.lines.values_list("pk", flat=True)) == before, "nothing was saved"


def test_of_very_many_a_name_is_typed(demo, sign_in, monkeypatch):
    client, product = sign_in("m1"), Product.objects.order_by("pk")[0]
    assert re.search('<select[^>]*name="product-0"', text(client.get(BIG)))
    monkeypatch.setattr("wise_tally.web.forms.choices.MOST_LISTED", 3)
    assert re.search('<input[^>]*data-asks="/names/products/"[^>]*name="product-0"', text(client.get(BIG)))

    twin = Product.objects.create(key="twin", name=product.name, product_group="x")

    def saved(name):
        return client.post(f"{BIG}part/lines/", {"expected": expected("lines"), **lines((name, "2", "", "", ""))})

    assert f"Enter the ID instead: {product.key}, twin." in text(saved(product.name))
    assert saved(f"{twin.name.upper()} (Twin)").status_code == 302
    assert Deal.objects.get(key="d9001").lines.get().product == twin
