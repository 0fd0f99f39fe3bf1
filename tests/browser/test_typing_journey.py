"""Numbers, days and filters as people type them, by keyboard alone, in the real browser."""

import re
from datetime import date

import pytest
from playwright.sync_api import expect

from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal, DealCredit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import Person

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]


def amount_of(key):
    return last_revision(Deal.objects.get(key=key)).amount_minor


def test_amounts_are_read_as_typed_or_refused_where_they_stand(visit):
    """Groups, shorthand and another currency, each typed as soon as the one before is written, before the page says so.

    What can be read in two ways is shown as read before it is saved.
    """
    page, held, released = visit("manager", "/deals/d9001/"), [], []

    def hold(route):
        held.append(route) if "x-follow" in route.request.headers and not released else route.continue_()

    page.route("**/*", hold)
    field = page.locator("#deal-amount, .deal-fields input[name=amount]").first
    for typed, minor in (
        ("12,500.00", 1_250_000),
        ("13 500,00", 1_350_000),
        ("14.5k", 1_450_000),
        ("€15,500", 1_550_000),
    ):
        field.focus()
        page.keyboard.press("Control+A")
        page.keyboard.type(typed)
        page.keyboard.press("Enter")
        for _ in range(100):
            if amount_of("d9001") == minor:
                break
            page.wait_for_timeout(100)
        assert amount_of("d9001") == minor, typed
    field.focus()
    page.keyboard.press("Control+A")
    # The page says so when the value is marked, about to be typed over.
    page.evaluate("document.addEventListener('page:followed', () => { document.body.dataset.followed = 'yes' })")
    released.append(True)
    [route.continue_() for route in held]
    expect(page.locator("body[data-followed]")).to_be_visible()
    page.keyboard.type("1.250")
    expect(page.locator("body")).to_contain_text(re.compile("read as 1.250|read as 1 250", re.DOTALL))
    page.keyboard.press("Control+A")
    page.keyboard.type("$900")
    page.keyboard.press("Enter")
    expect(page.locator("[role=alert], .cell-note, .fault").filter(has_text=re.compile("EUR|€")).first).to_be_visible()
    assert amount_of("d9001") == 1_550_000
    expect(field).to_have_value("$900")


def test_a_filter_is_built_by_keyboard_and_a_wrong_value_is_said_at_its_field(visit):
    page = visit("manager", "/deals/")
    rows = page.locator("main tbody tr:has(input[type=checkbox])")
    everything = rows.count()

    def begin(column):
        page.locator("#new-filter > summary").focus()
        if not page.locator("#new-filter[open]").count():
            page.keyboard.press("Enter")
        page.locator("#new-column").select_option(column)
        expect(page.locator("#new-test")).to_be_visible()

    begin("owner")
    for name in ("Joss Merrow", "Nadia Pell"):
        page.locator(f"#new-filter input[value='{name}']").focus()
        page.keyboard.press("Space")
    page.keyboard.press("Enter")
    page.wait_for_url("**new_value=Nadia**")
    expect(page.locator("main")).to_contain_text("Joss Merrow")
    begin("amount")
    page.locator("#new-test").select_option("from")
    page.locator("#new-value").focus()
    page.keyboard.type("lots")
    page.keyboard.press("Enter")
    expect(page.locator("#new-fault")).to_contain_text("lots")
    assert 0 < rows.count() < everything, "the list and the other filter stay"
    page.locator("#new-value").focus()
    page.keyboard.press("Control+A")
    page.keyboard.type("50k")
    page.keyboard.press("Enter")
    page.wait_for_url("**new_value=50k**")
    expect(page.locator("main")).to_contain_text("5 deals")
    for row in rows.all():
        expect(row).to_contain_text(re.compile("Joss Merrow|Nadia Pell"))


def test_a_long_choice_is_narrowed_by_typing(visit):
    """Fifty more people: ticks get a field that leaves what holds the typed words; of people names are suggested."""
    page = visit("admin", "/forecast/")
    for number in range(50):
        Person.objects.create(key=f"x{number:02}", name=f"Extra Person {number:02}", role="rep")
    Person.objects.create(key="xz", name="Zoe Quill", role="rep")
    reference_changed()
    page.goto(page.url.split("/forecast")[0] + "/deals/")
    page.locator("#new-filter > summary").click()
    page.locator("#new-column").select_option("owner")
    field = page.locator("#new-filter").get_by_label("Find in owner")
    field.focus()
    page.keyboard.type("zoe q")
    expect(page.locator("#new-filter .choices label:visible")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(page.locator("#new-filter input[value='Zoe Quill']")).to_be_checked()
    expect(field).to_have_value("")
    page.goto(page.url.split("/deals")[0] + "/deals/new-deal/")
    owner = page.get_by_label("Owner")
    owner.click()
    page.keyboard.type("quill zo")
    expect(page.locator("#suggested-names option")).to_have_count(1)
    expect(page.locator("#suggested-names option")).to_have_attribute("value", "Zoe Quill")
    owner.fill("zoe quill")
    page.get_by_role("button", name="Add deal").click()
    expect(page.locator(".field", has=owner).get_by_role("alert")).to_have_count(0)
    # Each row of a credit split shows whose it is, and another is typed over it.
    deal = Deal.objects.get(key="d9001")
    for key in ("r08", "xz"):
        DealCredit.objects.create(
            deal=deal, person=Person.objects.get(key=key), from_on=date(2026, 1, 1), share_bp=5_000
        )
    page.goto(page.url.split("/deals")[0] + "/deals/d9001/")
    rows = page.locator("input[name^=person-]")
    assert rows.evaluate_all("all => all.map(one => one.value)")[1:] == ["Zoe Quill", "", "", ""]
    page.get_by_text("Split credit…").click()
    rows.nth(1).hover()
    page.mouse.down()
    expect(page.locator("#suggested-names option").first).to_be_attached()
    page.mouse.up()
    page.keyboard.type("Extra Person 07")
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").filter(has_text="saved")).to_be_visible()
    assert set(deal.credits.values_list("person__key", flat=True)) >= {"r08", "x07"}


# The name of the field that Tab reaches from another.
NEXT_FIELD = """field => {
    const fields = [...field.form.elements].filter(one => one.tabIndex >= 0 && one.offsetParent);
    return fields[fields.indexOf(field) + 1].name;
}"""


@pytest.mark.parametrize("path", ["/forecast/", "/team/report/"])
def test_arrows_go_through_the_choices_of_a_page(path, visit):
    """Sent after a pause, with Enter or by leaving, once each; the focus stays for the next, whether all of the page is new or a part."""
    page, sent = visit("manager", path), []
    page.on("request", lambda request: sent.append(request.url) if "by=" in request.url else None)
    choice, keyboard = page.locator("main form select[name=by]"), page.keyboard
    values = choice.evaluate("select => [...select.options].map(option => option.value)")
    chosen = values.index(choice.input_value())
    choice.focus()
    for steps, key, focused in ((2, None, "by"), (1, "Enter", "by"), (2, "Tab", None)):
        after = choice.evaluate(NEXT_FIELD)
        for _ in range(steps):
            keyboard.press("ArrowDown")
        if key:
            keyboard.press(key)
        chosen += steps
        expect(page.locator(f"main form select[name=by] option[value='{values[chosen]}'][selected]")).to_have_count(1)
        expect(page.locator(f"main form [name={focused or after}]")).to_be_focused()
    assert len(sent) == 3


@pytest.mark.parametrize(
    ("path", "followed", "reached"),
    [
        ("/forecast/", "a[aria-label='Rows below North region']", "a[aria-label='Rows below North region']"),
        ("/forecast/", "[aria-label=Rows] a:text-is('Expand all')", "[aria-label=Rows] b:text-is('All expanded')"),
        ("/deals/", "th a:text-is('customer')", "th a:text-matches('customer .+')"),
        ("/deals/", "th a:text-is('owner')", "th a:text-matches('owner .+')"),
        ("/deals/", ".pages a:text-is('Next')", ".pages a:text-is('Previous')"),
        ("/team/?board=monday&arrange=yes", "button[aria-label^=Move] >> nth=1", "button[aria-label^=Move] >> nth=3"),
    ],
)
def test_what_is_followed_by_keyboard_keeps_the_focus(path, followed, reached, visit):
    """On the page as it is then, a moved row's on its row; where it is gone, what stands in its place."""
    page = visit("manager", path)
    page.locator(followed).focus()
    with page.expect_response(lambda answer: answer.ok and "text/html" in answer.headers.get("content-type", "")):
        page.keyboard.press("Enter")
    expect(page.locator(reached)).to_be_focused()


def test_back_shows_what_was_there_before_a_part_changed(visit):
    page = visit("manager")
    rows, team = page.locator("main tbody tr"), page.locator("a[aria-label='Rows below North region']")
    before = rows.count()
    team.click()
    expect(team).to_have_attribute("aria-expanded", "false")
    page.go_back()
    expect(team).to_have_attribute("aria-expanded", "true")
    expect(rows).to_have_count(before)
    page.go_forward()
    expect(team).to_have_attribute("aria-expanded", "false")
    with page.expect_event("load"):
        page.evaluate("dispatchEvent(new PageTransitionEvent('pageshow', { persisted: true }))")


def test_who_leaves_with_something_typed_is_asked_first(visit):
    """Whoever stays finds it; what is sent, put back as it was, or a search is not asked about."""
    page, asked = visit("manager", "/deals/new-deal/"), []
    name, away = page.get_by_label("Name", exact=True), page.get_by_role("link", name="Attainment", exact=True)

    def stay(dialog):
        asked.append(dialog.type)
        dialog.dismiss()

    page.on("dialog", stay)
    name.press_sequentially("Late gauge")
    away.click(no_wait_after=True)
    expect(name).to_have_value("Late gauge")
    assert (asked, "/deals/new-deal/" in page.url) == (["beforeunload"], True)
    page.get_by_label("Customer (optional)").press_sequentially("Orrin Upper Water Board")
    page.get_by_role("button", name="Add deal").click()
    page.wait_for_url("**/deals/late_gauge/")
    page.go_back()
    name.press_sequentially("Another")
    page.get_by_role("link", name="Cancel").click()
    page.wait_for_url("**/deals/")
    page.get_by_role("searchbox").first.press_sequentially("orrin")
    away.click()
    page.wait_for_url("**/attainment/")
    assert asked == ["beforeunload"]


def test_a_refused_form_leads_to_the_field_that_is_wrong(visit):
    page = visit("manager", "/deals/new-deal/")
    page.get_by_label("Name", exact=True).fill("Late gauge")
    amount = page.get_by_label("Amount")
    amount.fill("much")
    page.get_by_role("button", name="Add deal").click()
    expect(amount).to_have_attribute("aria-invalid", "true")
    expect(amount).to_be_focused()
