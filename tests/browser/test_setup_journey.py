"""Setting up in the real browser: order by drag and by keyboard, a move in the tree, the plan, a file taken in."""

from datetime import date

import pytest
from playwright.sync_api import expect

from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.domain.org.models import Membership, TeamParent
from wise_tally.domain.process.models import Stage
from wise_tally.domain.targets.models import Quota

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]


def order():
    """The open stages of the first process as they stand."""
    rows = Stage.objects.filter(process__key="new_site", kind="open").order_by("position")
    return list(rows.values_list("key", flat=True))


def test_stages_are_put_in_order_by_drag_and_by_keyboard(visit):
    page = visit("admin")
    page.goto(page.url.split("/forecast")[0] + "/setup/stages/new_site/")
    first = order()
    page.drag_and_drop("tr[data-key=ns_offer] .grip", "tr[data-key=ns_enquiry] .grip")
    page.wait_for_load_state()
    expect(page.locator("tr[data-key]").first).to_have_attribute("data-key", "ns_offer")
    assert order() == ["ns_offer", *[key for key in first if key != "ns_offer"]]
    page.focus("button[aria-label='Move Offer down']")
    page.keyboard.press("Enter")
    expect(page.locator("tr[data-key]").first).to_have_attribute("data-key", "ns_enquiry")
    assert order()[:2] == ["ns_enquiry", "ns_offer"]


def test_people_and_teams_move_by_drag_and_by_keyboard(visit):
    page = visit("admin")
    page.goto(page.url.split("/forecast")[0] + "/setup/tree/teams/")
    page.drag_and_drop("[data-node='person:r01']", "[data-node='team:coast']")
    expect(page.locator("#node")).to_have_value("person:r01")
    expect(page.locator("#above")).to_have_value("team:coast")
    page.keyboard.press("Enter")
    expect(page.locator("#messages")).to_contain_text("Iva Marrin")
    assert Membership.objects.filter(person__key="r01").order_by("-from_on")[0].team.key == "coast"
    page.focus("button[aria-label='Move Rivers team']")
    page.keyboard.press("Enter")
    expect(page.locator("#above")).to_be_focused()
    page.select_option("#above", "team:north")
    page.fill("#from_on", "2027-01-01")
    page.keyboard.press("Enter")
    expect(page.locator("#messages")).to_contain_text("Rivers team")
    assert TeamParent.objects.filter(team__key="rivers").order_by("-from_on")[0].parent.key == "north"


def test_a_year_is_spread_held_and_saved(visit):
    page = visit("manager")
    page.goto(page.url.split("/forecast")[0] + "/setup/quotas/?year=2028")
    page.fill("#total", "6000000")
    page.click("text=Distribute over months")
    expect(page.locator("#unsaved")).to_contain_text("12 cells filled in")
    page.click("text=Lock cells…")
    page.check("input[name='h:person:r01:2027-04-01']")
    page.fill("input[name='q:person:r01:2027-04-01']", "99")
    page.select_option("#levels", "all")
    page.click("button[value=spread-down]")
    expect(page.locator("#unsaved")).to_be_visible()
    page.click("text=Save quotas")
    expect(page.locator("#messages")).to_contain_text("cells set")
    found = ask("forecast", "FY2028", "2026-11-23")[""]
    assert (found["quota"], found["quota_of_parts"]) == ("6000000.00", "6000000.00")
    assert ask("forecast", "FY2028-M01", "2026-11-23", by="person")["r01"]["quota"] == "99.00"


def test_a_file_is_sent_matched_taken_in_and_undone(visit, tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    file = tmp_path / "more.csv"
    file.write_text(
        "Deal;Rep;Stage;Amount;Close\nBuoy;Iva Marrin;Offer;1000;01/12/2026\nGauge;Odran Tully;Nowhere;5;02/12/2026\n"
    )
    page = visit("admin")
    before = cents(ask("forecast", "FY2027-Q3", "2026-11-23")[""]["open"])
    page.goto(page.url.split("/forecast")[0] + "/setup/imports/")
    page.set_input_files("#file", str(file))
    page.click("text=Upload")
    page.select_option("#dates", "dmy")
    page.click("text=Update the preview")
    expect(page.locator("main")).to_contain_text("Stage: “Nowhere” is not there")
    page.get_by_role("button", name="1 with errors").focus()
    page.keyboard.press("Enter")
    expect(page.locator("main")).not_to_contain_text("Buoy")
    page.click("button[name=take]")
    expect(page.locator("main")).to_contain_text("Nothing was imported: 1 error.")
    page.check("input[name=good_rows_only]")
    page.click("button[name=take]")
    expect(page.locator("main")).to_contain_text("Imported.")
    assert cents(ask("forecast", "FY2027-Q3", "2026-11-23")[""]["open"]) == before + 100_000
    page.click("text=Undo import")
    expect(page.locator("main")).to_contain_text("This import was undone")
    assert cents(ask("forecast", "FY2027-Q3", "2026-11-23")[""]["open"]) == before


PASTE = """(text) => { const data = new DataTransfer(); data.setData("text/plain", text);
  document.activeElement.dispatchEvent(new ClipboardEvent("paste", {clipboardData: data, bubbles: true, cancelable: true})); }"""


def test_quotas_are_pasted_filled_undone_and_saved_by_keyboard(visit):
    """A block from a spreadsheet goes in from the cell in use on; sums follow before anything is saved; Tab does not trap."""
    page = visit("manager")
    page.goto(page.url.split("/forecast")[0] + "/setup/quotas/?year=2027")

    def cell(name):
        return page.get_by_label(name, exact=True)

    def sum_of(row, column):
        return page.locator(f"table[data-sheet] tr:has(input[name^='q:person:{row}:'])").locator("td").nth(column)

    said = page.locator("[data-sheet-status]")
    cell("Iva Marrin, May 2026").focus()
    page.evaluate(PASTE, "1,000.00\t2 000\r\n€3k\t4000\r\n")
    expect(said).to_have_text("4 cells pasted")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Control+d")
    expect(cell("Odran Tully, May 2026")).to_have_value("1,000.00")
    page.keyboard.press("Control+z")
    expect(cell("Odran Tully, May 2026")).to_have_value("€3k")
    first = cents(cell("Iva Marrin, Apr 2026").input_value() + ".00") // 100
    expect(sum_of("r01", 4)).to_have_text(f"{first + 3_000:,}".replace(",", "\u00a0"))
    page.keyboard.press("ArrowRight")
    page.keyboard.type("12x")
    page.keyboard.press("Enter")
    expect(cell("Iva Marrin, Jun 2026")).to_have_attribute("aria-invalid", "true")
    expect(cell("Odran Tully, Jun 2026")).to_be_focused()
    page.keyboard.press("Control+z")
    assert (
        Quota.objects.filter(subject_key="r02", starts_on=date(2026, 5, 1), metric="won_amount")
        .order_by("-pk")[0]
        .value
        != 300_000
    )
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name="Save quotas")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.locator("#messages")).to_contain_text("4 cells set")
    assert (
        Quota.objects.filter(subject_key="r02", starts_on=date(2026, 5, 1), metric="won_amount")
        .order_by("-pk")[0]
        .value
        == 300_000
    )
