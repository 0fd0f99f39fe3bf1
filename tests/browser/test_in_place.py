"""Cells edited where they stand, by keyboard alone, in each of the six places: requests sent, state stored, focus kept."""

import re
from datetime import date

import pytest
from playwright.sync_api import expect

from tests.support.world import ask
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.formats import short
from wise_tally.domain.targets.models import Call

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
KEY, QUARTER, AS_OF = "d9001", "FY2027-Q3", "2026-11-23"
# Of each place the address, and the row of the deal in it.
PLACES = {
    "list": ("/deals/?edit=yes&who=person:r08", "#edit-d9001"),
    "forecast": ("/forecast/?open=team:rivers/person:r08", "#deal-d9001"),
    "one-to-one": ("/team/one-to-ones/r08/", "#open-d9001"),
    "deals by rep": ("/team/deals-by-rep/?along=stage&rep=r08&part=4", "#row-d9001"),
    "due today": ("/today/?who=person:r08", "#due-d9001"),
    "lanes": ("/deals/?view=lanes&process=new_site&who=person:r08", "#card-d9001"),
}
DATED = [place for place in PLACES if place != "lanes"]
WITH_AMOUNT = [place for place in DATED if place != "due today"]
# 15 March 2027 as the fields are typed.
TYPED = {"en-GB": "15032027", "en-US": "03152027"}


def deal_now():
    return last_revision(Deal.objects.get(key=KEY))


class Row:
    """The deal's row in one of the places, with what was posted from the page."""

    def __init__(self, visit, place, language="en-GB"):
        path, self.selector = PLACES[place]
        # Due, so that the deal is shown among what is due today.
        Deal.objects.filter(key=KEY).update(next_step_on=date(2026, 11, 20))
        self.page = visit("manager", path, language=language)
        self.page.wait_for_load_state("networkidle")
        self.row = self.page.locator(self.selector)
        self.posts = []
        self.page.on("request", lambda request: self.posts.append(request.url) if request.method == "POST" else None)

    def field(self, name):
        return self.row.locator(f"[name={name}]")

    def focused(self):
        return self.page.evaluate(
            "document.activeElement.closest('[data-row]')?.id + ' ' + document.activeElement.name"
        )

    def becomes(self, state):
        """Wait until something is so in the database."""
        for _ in range(100):
            if state():
                return
            self.page.wait_for_timeout(50)
        assert state()

    def said(self, words):
        shown = re.compile(r"^\s*" + words.replace(" ", r"\s+"))
        expect(self.row.locator(".cell-note", has_text=shown)).to_be_visible()
        self.page.wait_for_load_state("networkidle")


@pytest.mark.parametrize(("place", "language"), [*((place, "en-GB") for place in DATED), ("list", "en-US")])
def test_a_date_typed_digit_by_digit_is_saved_once(place, language, visit):
    """With Enter; what was typed is what is stored, undone it has never been, and focus stays in the cell.

    The figures follow only when the reader has stepped onto Undo, and leave it there.
    """
    count = DealRevision.objects.filter(void=False).count()
    row, held = Row(visit, place, language), []
    row.page.route(
        lambda url: not held,
        lambda route: held.append(route) if "x-follow" in route.request.headers else route.continue_(),
    )
    row.field("expected_close").focus()
    for digit in TYPED[language]:
        row.page.keyboard.press(digit)
    assert row.posts == []
    row.page.keyboard.press("Enter")
    row.said("Saved")
    assert (len(row.posts), str(deal_now().expected_close)) == (1, "2027-03-15")
    expect(row.field("expected_close")).to_be_focused()
    row.row.locator("[data-undo]").focus()
    row.page.evaluate("document.addEventListener('page:followed', () => { document.body.dataset.followed = 'yes' })")
    row.becomes(lambda: held)
    held[0].continue_()
    expect(row.page.locator("body[data-followed]")).to_be_visible()
    expect(row.row.locator("[data-undo]")).to_be_focused()
    row.page.keyboard.press("Enter")
    row.said("Undone")
    expect(row.field("expected_close")).to_have_value("2026-12-22")
    expect(row.field("expected_close")).to_be_focused()
    assert DealRevision.objects.filter(void=False).count() == count


@pytest.mark.parametrize("place", WITH_AMOUNT)
def test_an_amount_is_saved_with_enter_and_with_tab_and_esc_leaves_it(place, visit):
    row = Row(visit, place)
    amount, keyboard = row.field("amount"), row.page.keyboard
    amount.focus()
    keyboard.press("Control+A")
    keyboard.type("1")
    keyboard.press("Escape")
    expect(amount).to_have_value("420000.00")
    keyboard.press("Control+A")
    keyboard.type("410000")
    keyboard.press("Enter")
    row.said("Saved")
    assert (len(row.posts), deal_now().amount_minor, row.focused()) == (1, 41_000_000, f"{row.selector[1:]} amount")
    keyboard.press("Control+A")
    keyboard.type("430000.5")
    keyboard.press("Tab")
    row.said("Saved")
    assert (len(row.posts), deal_now().amount_minor) == (2, 43_000_050)
    assert "amount" not in row.focused(), "focus went on"
    assert row.page.evaluate("document.activeElement.tagName") != "BODY"


def test_what_is_typed_while_a_value_is_on_its_way_is_saved_too_and_the_later_last(visit):
    row = Row(visit, "forecast")
    amount, keyboard = row.field("amount"), row.page.keyboard
    # From the start, because the browser may send a request that follows at once past a route just made.
    to_hold, held = [], []

    def hold_one(route):
        if to_hold and route.request.method == "POST":
            held.append(to_hold.pop() and route)
        else:
            route.continue_()

    row.page.route("**/*", hold_one)
    amount.focus()
    keyboard.press("Control+A")
    keyboard.type("44")
    to_hold.append(True)
    keyboard.press("Enter")
    row.becomes(lambda: held)
    keyboard.type("5")
    held[0].continue_()
    keyboard.press("Enter")
    row.becomes(lambda: (len(row.posts), deal_now().amount_minor) == (2, 44_500))
    expect(amount).to_have_value("445.00")
    amount.focus()
    keyboard.press("Control+A")
    keyboard.type("a lot")
    keyboard.press("Tab")
    expect(row.row.locator(".cell-note .wrong")).to_contain_text("“a lot” is not valid")
    expect(amount).to_have_value("a lot")
    assert deal_now().amount_minor == 44_500


@pytest.mark.parametrize("place", PLACES)
def test_arrows_in_a_select_only_choose(place, visit):
    """Enter saves what is chosen, once; a stage that closes the deal asks first; Esc there changes nothing."""
    row = Row(visit, place)
    stage, keyboard = row.field("stage"), row.page.keyboard
    stage.focus()
    for _ in range(3):
        keyboard.press("ArrowUp")
    assert (row.posts, stage.input_value()) == ([], "ns_survey")
    keyboard.press("Escape")
    expect(stage).to_have_value("ns_terms")
    keyboard.press("ArrowUp")
    keyboard.press("Enter")
    row.said("Saved")
    assert (len(row.posts), deal_now().stage.key, row.focused()) == (1, "ns_offer", f"{row.selector[1:]} stage")
    for _ in range(4):
        keyboard.press("ArrowDown")
    assert stage.input_value() == "ns_lost"
    keyboard.press("Enter")
    dialog = row.page.locator("dialog.ask[open]")
    expect(dialog).to_contain_text("Loss reason")
    keyboard.press("Escape")
    expect(stage).to_have_value("ns_offer")
    assert (deal_now().stage.key, row.focused()) == ("ns_offer", f"{row.selector[1:]} stage")
    for _ in range(4):
        keyboard.press("ArrowDown")
    keyboard.press("Tab")
    expect(dialog).to_be_visible()
    dialog.locator("[name=lost_reason]").focus()
    keyboard.type("Price")
    keyboard.press("Enter")
    row.said("Saved")
    last = deal_now()
    assert (last.stage.key, last.lost_reason, len(row.posts)) == ("ns_lost", "Price", 4)


def test_figures_follow_and_a_deal_that_leaves_the_page_stays_marked(visit):
    """The head of the forecast moves with the cell; moved into the next quarter the deal is shown where it was, with undo."""
    row = Row(visit, "forecast")
    figure = row.page.locator(".fig", has_text="Weighted").locator(".large")
    row.field("expected_close").focus()
    for digit in TYPED["en-GB"]:
        row.page.keyboard.press(digit)
    row.page.keyboard.press("Enter")
    row.said("Saved · now in Q4 FY2027")
    weighted = ask("forecast", QUARTER, AS_OF)[""]["weighted"]
    expect(figure).to_have_text(short(round(float(weighted) * 100)))
    expect(row.row).to_have_class(re.compile("gone"))
    row.row.locator("[data-undo]").click()
    expect(row.row).not_to_have_class(re.compile("gone"))
    before = ask("forecast", QUARTER, AS_OF)[""]["weighted"]
    expect(figure).to_have_text(short(round(float(before) * 100)))


def test_a_conflict_says_who_and_both_values_and_lets_choose(visit):
    from wise_tally.domain.deals.models import DealRevision

    row = Row(visit, "list")
    other = deal_now()
    values = {f.attname: getattr(other, f.attname) for f in DealRevision._meta.concrete_fields if f.name != "id"}
    DealRevision.objects.create(**values | {"amount_minor": 40_000_000, "changed_by": "r08"})
    row.field("amount").focus()
    row.page.keyboard.press("Control+A")
    row.page.keyboard.type("415000")
    row.page.keyboard.press("Enter")
    said = row.row.locator(".cell-note")
    expect(said).to_contain_text("Joss Merrow changed this deal on")
    expect(said).to_contain_text(re.compile("is now 400.000.00, you entered 415.000.00"))
    said.locator("text=Save mine").click()
    row.said("Saved")
    assert deal_now().amount_minor == 41_500_000


PASTE = """(text) => {
    const held = new DataTransfer()
    held.setData("text/plain", text)
    document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: held, bubbles: true, cancelable: true }))
}"""


def test_arrows_go_down_a_column_and_a_pasted_one_fills_it(visit):
    """In the list, where each cell is saved by itself, and in the submitted forecasts, where all are sent together."""
    page = visit("manager", "/deals/?edit=yes&who=person:r08")
    amounts = page.locator("tbody [name=amount]")
    ids = [amounts.nth(place).evaluate("field => field.closest('tr').id") for place in range(2)]
    amounts.nth(0).focus()
    page.keyboard.press("ArrowDown")
    expect(amounts.nth(1)).to_be_focused()
    page.keyboard.press("ArrowUp")
    page.evaluate(PASTE, "1 100\r\n2.2k\r\n")
    expect(page.locator(".cell-note", has_text="Saved")).to_have_count(2)
    for row_id, amount in zip(ids, ("1100.00", "2200.00"), strict=True):
        expect(page.locator(f"#{row_id} [name=amount]")).to_have_value(amount)
    closes = [page.locator(f"#{row_id} [name=expected_close]") for row_id in ids]
    closes[0].focus()
    page.evaluate(PASTE, "15/03/2027\nsoon")
    expect(closes[0]).to_have_value("2027-03-15")
    expect(page.locator(f"#{ids[1]} .cell-note", has_text="“soon” is not a date")).to_be_visible()
    expect(page.locator(f"#{ids[0]} .cell-note", has_text="Saved")).to_be_visible()
    page.goto(page.url.split("/deals/")[0] + "/forecast/submitted/")
    page.get_by_label("Forecast of Iva Marrin", exact=True).focus()
    page.evaluate(PASTE, "11k\n12k\n13k")
    page.get_by_label("Reason for those without one").fill("meeting")
    page.keyboard.press("Enter")
    page.wait_for_load_state()
    expect(page.locator("tbody tr", has_text="Petra Sund").first).to_contain_text(re.compile("13.000"))
    made = {(call.subject_key, call.amount_minor) for call in Call.objects.order_by("-pk")[:3]}
    assert made == {("r01", 1_100_000), ("r02", 1_200_000), ("r03", 1_300_000)}
