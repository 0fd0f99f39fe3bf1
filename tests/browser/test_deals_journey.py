"""A rep's day in the real browser: due today, the search, ten deals edited in place, by keyboard alone."""

import json
from datetime import UTC, datetime

import pytest
from playwright.sync_api import expect

from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Activity, Deal, DealRevision, KeptFile

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]


def test_a_deal_is_found_and_brought_up_to_date_by_keyboard(visit):
    page = visit("manager")
    page.keyboard.press("/")
    page.wait_for_url("**/find/**")
    page.keyboard.type("barrage net")
    expect(page.locator("[data-walk] a")).to_have_count(1)
    page.keyboard.press("ArrowDown")
    expect(page.locator("[data-walk] a")).to_be_focused()
    page.keyboard.press("Enter")
    page.wait_for_url("**/deals/d9001/**")
    page.focus("#next-step")
    page.keyboard.press("Control+A")
    page.keyboard.type("Ring the chair")
    page.keyboard.press("Enter")
    expect(page.locator("#messages")).to_contain_text("Next step saved")
    assert Deal.objects.get(key="d9001").next_step == "Ring the chair"
    page.get_by_role("button", name="Close deal…").focus()
    for key in ("Enter", "ArrowRight"):
        page.keyboard.press(key)
    expect(page.get_by_role("radio", name="Lost")).to_be_checked()
    expect(page.get_by_label("Loss reason")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.locator("#asked dialog")).to_contain_text("Say why the deal was lost")
    page.keyboard.type("Price")
    page.keyboard.press("Enter")
    expect(page.locator(".facts")).to_contain_text("loss reason")
    assert last_revision(Deal.objects.get(key="d9001")).lost_reason == "Price"
    page.locator("#messages form", has_text="Terms → Lost").get_by_role("button", name="Undo").click()
    expect(page.locator(".deal-fields")).to_contain_text("Expected close")
    assert last_revision(Deal.objects.get(key="d9001")).stage.key == "ns_terms"


def test_a_file_goes_only_after_a_question_and_a_journal_entry_comes_back(visit):
    deal = Deal.objects.get(key="d9001")
    KeptFile.objects.create(key="plan", deal=deal, name="plan.txt", at=datetime(2026, 11, 20, tzinfo=UTC), content=b"x")
    page, asked = visit("manager", "/deals/d9001/"), []
    page.once("dialog", lambda dialog: (asked.append(dialog.message), dialog.dismiss()))
    delete = page.locator("li", has_text="plan.txt").get_by_role("button", name="Delete")
    delete.click()
    assert asked == ["Delete plan.txt? This cannot be undone."]
    assert KeptFile.objects.filter(key="plan").exists()
    page.once("dialog", lambda dialog: dialog.accept())
    delete.click()
    expect(page.get_by_text("No files yet.")).to_be_visible()
    page.get_by_label("What was said or agreed").fill("Rang the chair")
    page.get_by_role("button", name="Add to journal").press("Enter")
    expect(page.locator("#messages")).to_contain_text("Added to the journal.")
    page.locator("#messages").get_by_role("button", name="Undo").press("Enter")
    expect(page.locator("#messages")).to_contain_text("Undone.")
    assert not Activity.objects.filter(subject="Rang the chair").exists()


def test_ten_deals_are_edited_in_place_each_saved_at_once(visit):
    page = visit("manager", "/deals/?edit=yes&stage=ns_offer")
    count = DealRevision.objects.count()
    rows = page.locator("tbody tr")
    for place in range(10):
        row = rows.nth(place)
        category = row.locator("select[name=category]")
        category.select_option("early")
        category.press("Tab")
        expect(category.locator("option[selected]")).to_have_attribute("value", "early")
    assert DealRevision.objects.count() - count >= 8, "those that were early already stay as they were"


def test_a_reps_day_on_a_narrow_screen(visit):
    page = visit("rep", "/", width=390, height=844)
    page.wait_for_url("**/brief/")
    page.get_by_role("link", name="Today").click()
    page.wait_for_url("**/today/")
    first = page.locator("article.due").first
    name = first.locator("header a").first.inner_text()
    first.locator("input[name=next_step]").fill("Ask for the plan")
    first.locator("input[name=next_step_on]").fill("2026-12-04")
    first.locator("input[name=next_step_on]").press("Enter")
    expect(first.locator(".cell-note", has_text="Saved")).to_be_visible()
    deal = Deal.objects.get(next_step="Ask for the plan")
    assert (deal.name, str(deal.next_step_on)) == (name, "2026-12-04")
    lead = page.locator("article.due", has_text="Start working").first
    lead.locator("text=Start working").click()
    page.wait_for_load_state()
    page.goto(page.url.split("/today")[0] + f"/deals/{deal.key}/")
    page.fill("#act-subject", "Talked about access")
    page.click("text=Add to journal")
    expect(page.locator("body")).to_contain_text("Talked about access")
    assert Activity.objects.filter(subject="Talked about access", deal=deal, status="done").exists()


def test_months_of_the_list_are_chosen_by_drag_and_by_keyboard(visit):
    """Two months dragged across, or walked over with Shift held, list just the deals that the picture counts in them."""
    page = visit("manager", "/deals/")
    points = json.loads(page.locator("#closing").text_content())["points"]
    number = sum(int(one["rows"][2][1].split()[0]) for one in points[1:3])
    plot = page.get_by_role("slider")
    columns = [box["x"] + box["width"] / 2 for box in (one.bounding_box() for one in plot.locator("rect.soft").all())]
    middle = plot.bounding_box()["y"] + 60
    page.mouse.move(columns[1], middle)
    page.mouse.down()
    page.mouse.move(columns[2], middle, steps=4)
    expect(page.locator(".tip h3")).to_have_text(f"{points[1]['title']} – {points[2]['title']}")
    page.mouse.up()
    expect(page.locator("#count-strip")).to_contain_text(f"{number} deals included")
    page.go_back()
    plot.focus()
    page.keyboard.press("Home")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Enter")
    page.wait_for_url("**close**")
    expect(page.locator("#count-strip")).to_contain_text(f"{number} deals included")


@pytest.mark.parametrize("width", [1280, 390])
def test_several_deals_are_changed_where_they_are_ticked_and_put_back(visit, width):
    page, height = visit("manager", "/deals/", width=width), 800
    box = page.locator("tbody input[name=deal]").nth(20)
    box.focus()
    before = page.evaluate("scrollY"), box.bounding_box()["y"]
    box.press("Space")
    summary = page.locator("summary", has_text="Edit 1 selected")
    expect(summary).to_be_visible()
    assert (page.evaluate("scrollY"), box.bounding_box()["y"]) == before, "no row moves while they are ticked"
    page.locator("tbody input[name=deal]").nth(21).press("Space")
    expect(summary).to_have_count(0)
    summary = page.locator("summary", has_text="Edit 2 selected")
    assert summary.bounding_box()["y"] < height, "in sight, however far down"
    if width < 900:
        summary.press("Enter")
    page.get_by_role("button", name="Preview changes").press("Enter")
    expect(page.locator("#refused")).to_contain_text("Choose at least one change")
    expect(page.locator("tbody input[name=deal]:checked")).to_have_count(2)
    assert page.locator("#refused").bounding_box()["y"] < height
    page.locator(".bulk-tools").get_by_label("Expected close").fill("2027-06-30")
    page.get_by_role("button", name="Preview changes").press("Enter")
    expect(page.locator("main")).to_contain_text("Not saved yet.")
    page.get_by_role("button", name="Change 2 deals").press("Enter")
    expect(page.locator("#messages")).to_contain_text("2 deals changed")
    page.locator("tbody input[name=deal]").nth(1).press("Space")
    told, bar = page.locator("#messages").bounding_box(), page.locator(".bulk-tools").bounding_box()
    assert told["y"] >= bar["y"] + bar["height"], "neither covers the other"
    page.locator("#messages").get_by_role("button", name="Undo").press("Enter")
    expect(page.locator("#messages")).to_contain_text("2 deals restored")
