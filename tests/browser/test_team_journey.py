"""The weekly meetings in the browser: a tally built and shared by mouse and by keyboard, the Monday meeting, a one-to-one."""

import re
import time

import pytest

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
A_MINUTE = 60


def test_a_tally_by_mouse_stands_on_a_dashboard_within_a_minute(visit):
    """Built from nothing, redrawn at each choice, kept, shared and put on a dashboard of one's own."""
    page = visit("manager")
    base = page.url.split("/forecast")[0]
    page.goto(f"{base}/team/")
    page.get_by_text("Dashboard options").click()
    page.get_by_label("Name of the new dashboard").fill("Meeting")
    page.get_by_role("button", name="New dashboard").click()
    page.get_by_role("heading", name="Meeting").wait_for()
    begun = time.monotonic()
    page.get_by_role("link", name="or create a new one").click()
    page.get_by_label("figure", exact=True).select_option("created_value")
    page.get_by_role("heading", name="Value of new deals").wait_for()
    page.get_by_label("rows").select_option("source")
    page.get_by_role("heading", name="Value of new deals, by source").wait_for()
    page.get_by_label("over time").select_option("month")
    page.locator(".people-matrix").wait_for()
    page.get_by_label("Name").fill("Created by source")
    page.get_by_label("Add to dashboard").select_option(label="Meeting")
    page.get_by_label("Share with everyone").check()
    page.get_by_role("button", name="Save report").click()
    page.get_by_role("heading", name="Created by source").wait_for()
    assert time.monotonic() - begun < A_MINUTE
    figure = page.locator("main td.cell a.open-figure").first
    shown = figure.inner_text()
    figure.click()
    total = page.locator("#working .total td").last
    total.wait_for()
    assert re.sub(r"[^\d]", "", total.inner_text().split(".")[0]) == re.sub(r"[^\d]", "", shown)
    page.get_by_role("link", name=re.compile("all", re.IGNORECASE)).last.wait_for()


def test_a_tally_by_keyboard(visit):
    """The same without a mouse: selects by typing, the button by Enter; tiles are moved by their buttons."""
    page = visit("manager")
    base = page.url.split("/forecast")[0]
    page.goto(f"{base}/team/report/")
    page.get_by_label("figure", exact=True).focus()
    page.keyboard.type("slips")
    page.get_by_role("heading", name="Slips").wait_for()
    page.get_by_label("rows").focus()
    page.keyboard.type("person")
    page.get_by_role("heading", name="Slips, by person").wait_for()
    page.get_by_label("Add to dashboard").focus()
    page.keyboard.type("Monday")
    page.get_by_label("Share with everyone").focus()
    page.keyboard.press("Space")
    page.get_by_role("button", name="Save report").focus()
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Monday").wait_for()
    page.get_by_text("Dashboard options").focus()
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Edit layout").focus()
    page.keyboard.press("Enter")
    first = page.locator("ol .node").first.get_attribute("data-key")
    page.get_by_role("button", name=re.compile("^Move .* down$")).first.focus()
    page.keyboard.press("Enter")
    page.wait_for_function("key => document.querySelectorAll('ol .node')[1].dataset.key === key", arg=first)
    page.locator("ol .node").first.drag_to(page.locator("ol .node").nth(2))
    page.wait_for_function("key => document.querySelectorAll('ol .node')[0].dataset.key === key", arg=first)


def test_the_monday_meeting_goes_no_further_than_an_account_sheet(visit):
    """From a rep's part to its deals, one edited where it stands, to the customer and back to the same place."""
    page = visit("manager")
    base = page.url.split("/forecast")[0]
    page.goto(f"{base}/team/deals-by-rep/")
    row = page.locator(".people-matrix tr", has_text="Joss Merrow")
    row.locator("td").nth(5).locator("a").last.click()
    page.get_by_role("heading", name=re.compile("^Joss Merrow, Terms")).wait_for()
    place = page.url.split("#")[0]
    line = page.locator("#deals tr", has_text="Barrage network")
    line.get_by_label(re.compile("^Amount of")).fill("410000.00")
    line.get_by_label(re.compile("^Amount of")).press("Enter")
    page.get_by_role("heading", name=re.compile("410.000")).wait_for()
    assert page.url.split("#")[0] == place
    page.locator("#deals").get_by_role("link", name="Orrin Upper Water Board", exact=True).click()
    page.get_by_text("Past due").first.wait_for()
    page.get_by_role("link", name="‹ Back").click()
    page.get_by_role("heading", name=re.compile("^Joss Merrow, Terms")).wait_for()
    assert page.url == place


def test_a_one_to_one_on_one_page(visit):
    """What was agreed is ticked, a deal is moved, a note and an action are kept; nothing else is opened."""
    page = visit("manager")
    base = page.url.split("/forecast")[0]
    page.goto(f"{base}/team/one-to-ones/r08/")
    page.get_by_role("button", name=re.compile("^Done: Get the survey")).click()
    page.get_by_text("No open actions").wait_for()
    notes = page.get_by_label("Notes for today")
    notes.fill("The board meets on the 18th.")
    page.get_by_text(re.compile(r"^saved \d\d:\d\d$")).wait_for()
    deal = page.locator(".in-place tr", has_text="Barrage network").first
    deal.get_by_label(re.compile("^Expected close of")).fill("2026-12-18")
    deal.get_by_label(re.compile("^Expected close of")).press("Enter")
    deal.get_by_text("Saved").wait_for()
    assert "/team/one-to-ones/r08/" in page.url
    page.get_by_label("Agreed action").fill("Bring the reference from Skerry")
    page.get_by_label("Due date").fill("2026-12-11")
    page.get_by_role("button", name="Add", exact=True).click()
    page.get_by_text("Bring the reference from Skerry").wait_for()
    assert page.get_by_label("Notes for today").input_value() == "The board meets on the 18th."
