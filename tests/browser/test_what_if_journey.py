"""The forecast of choice in the real browser: rows and columns, a what-if, adopting what was seen; by keyboard."""

import pytest
from playwright.sync_api import expect

from wise_tally.domain.deals.models import Deal

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]


def test_rows_of_choice_and_columns_by_keyboard(visit):
    page = visit("manager")
    page.locator("select[name=by]").focus()
    page.locator("select[name=by]").select_option("product_group")
    page.wait_for_url("**by=product_group**")
    page.locator("select[name=within]").select_option("source")
    page.wait_for_url("**within=source**")
    expect(page.locator("tbody tr.upper").first).to_be_visible()
    page.locator("summary", has_text="Columns").focus()
    page.keyboard.press("Enter")
    page.locator("input[value=coverage]").focus()
    page.keyboard.press("Space")
    page.locator("button", has_text="Apply").focus()
    page.keyboard.press("Enter")
    page.wait_for_load_state()
    expect(page.locator("thead").first).to_contain_text("coverage")
    assert "by=product_group" in page.url, "the question stays"


def test_a_what_if_is_tried_opened_applied_and_put_back(visit):
    page = visit("manager", "/forecast/what-if/")
    page.locator("select[name='outcome:d9001']").select_option("won")
    page.locator("button[value=try]").focus()
    page.keyboard.press("Enter")
    page.wait_for_load_state()
    row = page.locator("table.compared tr", has_text="won + commit")
    expect(row).to_be_visible()
    won = page.locator("table.compared tbody tr").first
    won.locator(".open-figure").last.click()
    expect(page.locator("#working")).to_contain_text("Barrage network")
    page.keyboard.press("Escape")
    page.fill("#reason", "signed at the weir")
    page.locator("button[value=apply]").click()
    page.wait_for_load_state()
    expect(page.locator("body")).to_contain_text("1 deal changed")
    last = Deal.objects.get(key="d9001").revisions.order_by("-pk").first()
    assert (last.stage.kind, last.reason) == ("won", "signed at the weir")
    page.goto(page.url.split("/forecast")[0] + "/deals/")
    page.locator("button[value=undo]").click()
    page.wait_for_load_state()
    assert Deal.objects.get(key="d9001").revisions.order_by("-pk").first().stage.kind == "open"


def test_what_was_seen_is_adopted_after_its_effect_is_shown(visit):
    page = visit("manager", "/conversion/probability-check/?period=FY2026&process=new_site")
    box = page.locator("input[name=stage][value=ns_offer]")
    box.focus()
    page.keyboard.press("Space")
    page.locator("button", has_text="Preview effect").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#effect")).to_contain_text("Not saved yet")
    page.locator("#effect button").click()
    page.wait_for_load_state()
    expect(page.locator("body")).to_contain_text("1 probability set")
