"""Every main view: axe finds nothing, nothing scrolls sideways, in light and dark, wide and narrow."""

import pytest
from axe_playwright_python.sync_playwright import Axe
from django.db.models import Value
from django.db.models.functions import Concat
from playwright.sync_api import expect

from wise_tally.domain.deals.models import Account, Contact, Deal, Lead
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.models import LeadStep, Stage

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
VIEWS = (
    "/brief/", "/brief/findings/?family=deals", "/brief/bounds/", "/forecast/?open=team:rivers/person:r08",
    "/forecast/working/weighted/", "/forecast/trend/", "/forecast/changed/?open=cause:won", "/forecast/outlook/",
    "/forecast/?form=year&rows=none", "/forecast/what-if/", "/forecast/submitted/", "/deals/",
    "/deals/?view=lanes",
    "/deals/?f=owner:is:Odran+Tully&f=gap:from:1&join=any&sort=-gap,-amount&cols=customer,gap,margin,amount",
    "/deals/d9001/", "/deals/d9001/quote/", "/deals/new-deal/", "/today/", "/find/?q=orrin", "/customers/accounts/",
    "/customers/account/ac001/", "/customers/leads/", "/customers/lead/l0621/", "/conversion/?by=source",
    "/conversion/time/", "/conversion/lead-conversion/", "/conversion/probability-check/?backtest=yes",
    "/forecast/accuracy/", "/conversion/loss-reasons/", "/conversion/monthly-trend/", "/attainment/?by=person",
    "/attainment/year-progress/", "/attainment/period-comparison/", "/attainment/commissions/of/r02/",
    "/attainment/cash/", "/team/", "/team/?board=monday&arrange=yes",
    "/team/report/?show=win_rate&by=person&bucket=last_8_quarters&draw=line", "/team/wall/",
    "/team/deals-by-rep/?rep=r08&part=2", "/team/one-to-ones/r06/", "/team/contact-gaps/?rep=r05&part=4",
    "/tokens/", "/setup/", "/setup/stages/new_site/", "/setup/stages/new_site/ns_offer/", "/setup/processes/",
    "/setup/quotas/", "/setup/tree/teams/", "/setup/lists/deal-types/", "/setup/lists/people/r08/",
    "/setup/people/r12/hand-over/?rule=territory&taker=r10&taker=r13", "/setup/lists/lead-steps/",
    "/setup/organisation/", "/setup/imports/", "/setup/audit/", "/setup/outbox/", "/setup/backups/",
    "/setup/start/",
)  # fmt: skip


# What looks like something before it on this page or an earlier one, all ancestors, classes and states alike, has its colours too.
LEAVE_NEW_LOOKS = """() => {
    const seen = new Set(JSON.parse(sessionStorage.getItem('looks') || '[]'))
    const states = ['class', 'aria-current', 'aria-pressed', 'aria-expanded', 'disabled', 'type', 'open']
    const look = node => node.tagName + states.map(name => node.getAttribute(name) ?? '').join('.')
    for (const leaf of [...document.body.querySelectorAll('*')].reverse()) {
        if (leaf.children.length) continue
        const chain = []
        for (let node = leaf; node; node = node.parentElement) chain.push(look(node))
        const key = chain.join('<')
        if (seen.has(key)) leaf.remove()
        seen.add(key)
    }
    sessionStorage.setItem('looks', JSON.stringify([...seen]))
}"""


# Rows are alike: of a long table the first ones tell what the others would.
LEAVE_FIRST_ROWS = "() => document.querySelectorAll('tbody > tr:nth-child(n + 7)').forEach(row => row.remove())"
AXE = Axe().axe_script


def found_by_axe(page, **options):
    """What axe-core finds, a fault once."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE)
    plain = {"resultTypes": ["violations"], "preload": False, "selectors": False, "iframes": False}
    found = page.evaluate("options => axe.run(options)", plain | options)["violations"]
    return [(v["id"], v["nodes"][0]["html"][:160]) for v in found]


SHAPES = {"light": {"width": 1280, "height": 800}, "dark": {"width": 390, "height": 844}}


SCROLLS = """async () => {
    const menus = [...document.querySelectorAll('main details:has(> .menu)')], turn = open => menus.forEach(one => { one.open = open })
    turn(true)
    if (menus.length) await new Promise(done => setTimeout(done, 20))
    return [document.documentElement.scrollWidth > window.innerWidth, turn(false)][0]
}"""


def shape(page, scheme):
    """Wide and light as on a desk, or narrow and dark as on a phone at night; whether it then scrolls sideways, menus opened."""
    page.set_viewport_size(SHAPES[scheme])
    page.emulate_media(color_scheme=scheme)
    return [f"{scheme}: scrolls sideways"] if page.evaluate(SCROLLS) else []


# Where fingers point a page is narrow, and a look that comes twice has its colours checked once.
RULES = {"light": {"rules": {"color-contrast": {"enabled": False}}}, "dark": {"runOnly": ["target-size"]}}


def faults_of(page, first="light", second="dark"):
    """Faults of a page in both shapes; it comes in the first and is left in the second."""
    faults = shape(page, first) + shape(page, second)
    page.evaluate(LEAVE_FIRST_ROWS)
    faults += found_by_axe(page, **RULES[second]) + shape(page, first) + found_by_axe(page, **RULES[first])
    page.evaluate(LEAVE_NEW_LOOKS)
    faults += found_by_axe(page, runOnly=["color-contrast"])
    return faults + shape(page, second) + found_by_axe(page, runOnly=["color-contrast"])


def test_each_view_is_clean(visit):
    page = visit("admin")
    base, shapes = page.url.split("/forecast")[0], list(SHAPES)
    found = {}
    for view in VIEWS:
        page.goto(base + view)
        if faults := faults_of(page, *shapes):
            found[view] = faults
        shapes.reverse()
    assert not found, "\n".join(f"{view}: {faults}" for view, faults in found.items())
    page.context.clear_cookies()
    page.goto(f"{base}/sign-in/")
    assert not faults_of(page)


# What goes to a meeting on paper, as wide as a sheet, and what may be written there by hand.
PRINTED = (
    *VIEWS[:2],
    "/forecast/",
    "/deals/",
    "/deals/?view=lanes",
    "/deals/d9001/",
    "/today/",
    "/team/one-to-ones/r08/",
)
ON_SCREEN_ALONE = """() => [...document.querySelectorAll('main :is(button, input, select), .scope .step, .foot a')]
    .filter(one => one.checkVisibility() && !one.matches('.sorts')).map(one => one.outerHTML.slice(0, 80))"""


def test_paper_holds_values_and_nothing_to_press(visit):
    page = visit("manager", width=718, height=1000)
    page.emulate_media(media="print")
    base, found = page.url.split("/forecast")[0], {}
    for view in PRINTED:
        page.goto(base + view)
        wide = page.evaluate("[...document.querySelectorAll('main, .lanes')].some(one => one.scrollWidth > innerWidth)")
        if controls := page.evaluate(ON_SCREEN_ALONE) + (["wider than a sheet"] if wide else []):
            found[view] = controls
    assert not found, "\n".join(f"{view}: {controls[:3]}" for view, controls in found.items())
    expect(page.locator(".deal-form").first).to_contain_text("Terms · 2")


# Pages whose texts hold names that people gave, but for tables, which have a scroll bar of their own.
NAMED = (
    "/brief/",
    "/today/",
    "/deals/?view=lanes",
    "/deals/d9001/",
    "/customers/account/ac001/",
    "/customers/lead/l0621/",
    "/team/",
)


@pytest.mark.parametrize("width", [1280, 390])
def test_a_long_word_stays_within_its_page(visit, width):
    for model in (Account, Contact, Deal, Lead, LeadStep, Person, Stage):
        model.objects.update(name=Concat("name", Value("Elektrizitätswerk" * 8)))
    reference_changed()
    page = visit("admin", width=width)
    base = page.url.split("/forecast")[0]
    for view in NAMED:
        page.goto(base + view)
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), view
