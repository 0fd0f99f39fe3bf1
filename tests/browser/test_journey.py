"""The main job in the real browser, with the mouse and with the keyboard."""

import re

import pytest
from playwright.sync_api import expect

from tests.support.naive import cents, half_even
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.lines import Filter
from wise_tally.core.working import forecast_working
from wise_tally.domain.formats import money, short

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
QUARTER, AS_OF = "FY2027-Q3", "2026-11-23"


def company(name, as_of=AS_OF):
    """A figure of the company in cents, from the command's own function."""
    return cents(ask("forecast", QUARTER, as_of)[""][name])


def weighted_in_stage(key, probability):
    """What the open deals of a stage would weigh at another probability, rounded per deal."""
    book = books.current()
    snapshot = book.as_of(__import__("datetime").date(2026, 11, 23))
    found = forecast_working(
        book, snapshot, book.reference.fiscal.parse(QUARTER), Filter(), "weighted_open", "company", 0
    )
    at = {int(deal): place for place, deal in enumerate(snapshot.deal)}
    stage = next(i for i, s in enumerate(book.reference.stages) if s.key == key)
    inside = [d for d in found.counted if snapshot.stage[at[d.deal]] == stage]
    now = sum(d.value_minor for d in inside)
    return now, sum(half_even(d.amount_minor * probability / 100) for d in inside)


def answer(page, label):
    """The large figure with that label."""
    return page.locator(".fig", has_text=label).locator(".large")


def test_rules_set_figures_follow_and_the_past_stays(visit):
    page = visit()
    before = company("weighted")
    expect(answer(page, "Weighted")).to_have_text(short(before))
    # A stage's probability: the forecast moves by exactly the computed amount.
    was, becomes = weighted_in_stage("ns_offer", 35)
    page.goto(page.url.split("/forecast")[0] + "/setup/stages/new_site/")
    page.fill("input[name='probability:ns_offer']", "35")
    page.click("text=Preview effect")
    expect(page.locator("#effect")).to_contain_text("Not saved yet")
    page.click("text=Save stages")
    expect(page.locator("#messages")).to_contain_text("1 stage changed from 23 Nov 2026")
    page.wait_for_load_state()
    page.keyboard.press("1")
    page.wait_for_url("**/forecast/**")
    assert company("weighted") == before - was + becomes != before
    expect(answer(page, "Weighted")).to_have_text(short(before - was + becomes))
    # A quota: the gap follows.
    quota, gap = company("quota"), company("gap")
    page.goto(page.url.split("/forecast")[0] + "/setup/quotas/?year=2027")
    cell = page.locator("input[name='q:company::2026-12-01']")
    cell.fill(str(int(cell.input_value()) + 100_000))
    page.click("text=Save quotas")
    expect(page.locator("#messages")).to_contain_text("1 cell set")
    page.wait_for_load_state()
    page.keyboard.press("1")
    page.wait_for_url("**/forecast/**")
    expect(answer(page, "Gap to quota")).to_have_text(short(gap + 10_000_000))
    assert company("quota") == quota + 10_000_000


def test_a_deal_changed_in_the_grid_moves_figures_and_working(visit):
    page = visit(path="/forecast/?open=team:rivers/person:r08")
    row = page.locator("#deal-d9001")
    before = company("weighted")
    row.locator("select[name=stage]").select_option("ns_offer")
    row.locator("select[name=stage]").press("Enter")
    expect(row.locator("select[name=stage]")).to_have_value("ns_offer")
    expect(row).to_contain_text("60")
    after = before - 42_000_000 * 85 // 100 + 42_000_000 * 60 // 100
    expect(answer(page, "Weighted")).to_have_text(short(after))
    assert company("weighted") == after
    row.locator("select[name=category]").select_option("left_out")
    row.locator("select[name=category]").press("Enter")
    # Beside this cell: the words about the one before stand until then.
    expect(row.locator("select[name=category] + .cell-note", has_text="Saved")).to_be_visible()
    page.wait_for_load_state("networkidle")
    assert company("weighted") == before - 42_000_000 * 85 // 100
    # The working opens at the right, marks its figure, and adds up to it.
    figure = page.locator("tr.total .open-figure").nth(2)
    figure.click()
    panel = page.locator("#working")
    expect(panel.locator("h2")).to_contain_text("Weighted")
    expect(figure).to_have_attribute("aria-current", "true")
    expect(panel.locator("tr.total")).to_contain_text(money(company("weighted")))
    box, shown = panel.bounding_box(), figure.bounding_box()
    assert shown["x"] + shown["width"] <= box["x"], "the panel does not cover the figure it explains"
    page.keyboard.press("Escape")
    expect(panel.locator("h2")).to_have_count(0)
    # Last week, through the filter line.
    page.locator(".scope summary").last.click()
    page.click("text=a week ago")
    expect(page.locator(".band")).to_contain_text("16 Nov 2026")
    expect(answer(page, "Weighted")).to_have_text(short(company("weighted", "2026-11-16")))
    assert page.locator("input[name=amount]").count() == 0


def test_the_keyboard_alone_reaches_everything(visit):
    page = visit()
    for key, place in zip("234561", ("deals", "conversion", "attainment", "team", "setup", "forecast"), strict=True):
        page.keyboard.press(key)
        page.wait_for_url(f"**/{place}/**")
    page.keyboard.press("]")
    page.wait_for_url("**period=FY2027-Q4**")
    page.keyboard.press("[")
    page.wait_for_url("**period=FY2027-Q3**")
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator("#keys")).not_to_be_visible()
    page.locator("table[data-grid] .open-figure").first.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowDown")
    focused = page.evaluate("document.activeElement.getAttribute('href')")
    assert re.search(r"working/.*node=team", focused)
    page.keyboard.press("w")
    expect(page.locator("#working h2")).to_contain_text("North region")
    tab_stops = page.evaluate("document.querySelectorAll('table.ledger [tabindex=\"0\"]').length")
    assert tab_stops == 1, "a table is one tab stop"
    page.keyboard.press("Escape")
    page.keyboard.press("s")
    assert page.evaluate("document.activeElement.tagName") == "SUMMARY"


def test_a_row_opens_to_its_deals_without_a_script_error_and_without_script(visit, browser, site):
    page = visit(role="rep")
    page.locator(".twisty").first.click()
    expect(page.locator("tr.deal").first).to_be_visible()
    assert "open=" in page.url
    plain = browser.new_context(java_script_enabled=False).new_page()
    plain.goto(f"{site}/sign-in/?next=/forecast/")
    plain.click("button[value=manager]")
    plain.locator("tr.total .open-figure").first.click()
    expect(plain.locator("#working h2")).to_contain_text("Won")
    expect(plain.locator("#working tr.total")).to_contain_text(money(company("won")))


def test_a_card_moves_between_lanes_by_drag_and_by_keyboard_and_back(visit):
    from wise_tally.domain.deals.actions import last_revision
    from wise_tally.domain.deals.models import Deal

    page = visit("admin", path="/deals/?view=lanes&process=new_site")
    deal = Deal.objects.get(key="d9001")
    card = page.locator("form[action='/deals/d9001/change/']").last
    card.drag_to(page.locator("[data-lane=ns_offer] header"))
    expect(page.locator("#messages")).to_contain_text("Terms → Offer")
    assert last_revision(deal).stage.key == "ns_offer"
    page.locator("#messages").get_by_role("button", name="Undo").click()
    expect(page.locator("[data-lane=ns_terms]")).to_contain_text(deal.name)
    assert last_revision(deal).stage.key == "ns_terms"
    expect(page.locator("#messages form")).to_have_count(0)
    page.wait_for_load_state("networkidle")
    page.locator("[data-lane=ns_terms] [data-card]").first.focus()
    page.keyboard.press("ArrowLeft")
    assert page.evaluate("document.activeElement.closest('[data-lane]').dataset.lane") == "ns_offer"
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    page.wait_for_url("**/deals/d*/**")


def test_a_table_sorts_by_its_heads_and_keeps_what_belongs_together(visit):
    """Numbers fall first, names rise; people stay below their team; arrows reach the heads, which are no tab stops."""
    page = visit("manager")
    base = page.url.split("/forecast")[0]
    page.goto(f"{base}/attainment/?by=person&period=FY2027-Q3")
    table = page.locator("table[data-grid]").first

    def column(place):
        return [
            text.replace("\u00a0", "") for text in table.locator(f"tbody tr td:nth-child({place})").all_inner_texts()
        ]

    first = table.locator("tbody a").first
    first.focus()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowRight")
    expect(table.locator("thead button", has_text="won")).to_be_focused()
    page.keyboard.press("Enter")
    expect(table.locator("th[aria-sort=descending]")).to_have_text(re.compile("^won"))
    won = [int(text) for text in column(3)]
    assert won == sorted(won, reverse=True)
    page.keyboard.press("Enter")
    assert [int(text) for text in column(3)] == won[::-1]
    assert table.locator("thead [tabindex='0']").count() <= 1
    page.goto(f"{base}/attainment/?by=team&period=FY2027-Q3")
    before = column(1)
    table.locator("thead button", has_text="won").click()
    regions = [name for name in column(1) if "region" in name]
    assert sorted(column(1)) == sorted(before)
    assert column(1).index(regions[0]) == 0
    assert set(column(1)[1:3]) in ({"Fells team", "Lakes team"}, {"Rivers team", "Coast team"})
