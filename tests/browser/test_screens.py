"""Every main view: axe finds nothing, nothing scrolls sideways, in light and dark, wide and narrow."""

import pytest
from axe_playwright_python.sync_playwright import Axe

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
VIEWS = (
    "/forecast/?open=team:rivers/person:r08",
    "/forecast/?by=territory&as_of=2026-11-16",
    "/forecast/working/weighted/",
    "/forecast/trend/",
    "/forecast/changed/?open=cause:won",
    "/forecast/outlook/",
    "/forecast/?form=year&rows=none",
    "/forecast/?by=source&within=deal_type&measure=deals&rows=all",
    "/forecast/what-if/",
    "/forecast/submitted/",
    "/deals/",
    "/deals/?view=lanes",
    "/deals/?f=owner:is:Odran+Tully&f=gap:from:1&join=any&sort=-gap,-amount&cols=customer,gap,margin,amount",
    "/deals/d9001/",
    "/deals/d9001/part/lines/",
    "/deals/new-deal/",
    "/today/",
    "/find/?q=orrin",
    "/customers/accounts/",
    "/customers/account/ac001/",
    "/customers/account/ac001/merge/",
    "/customers/leads/",
    "/customers/lead/l0621/",
    "/conversion/?by=source",
    "/conversion/?against=before",
    "/conversion/time/",
    "/conversion/lead-conversion/",
    "/conversion/probability-check/?backtest=yes",
    "/forecast/accuracy/",
    "/conversion/loss-reasons/",
    "/conversion/monthly-trend/",
    "/attainment/?by=person",
    "/attainment/year-progress/",
    "/attainment/period-comparison/",
    "/attainment/commissions/of/r02/",
    "/attainment/cash/",
    "/team/",
    "/team/?board=this-week",
    "/team/?board=monday&arrange=yes",
    "/team/report/?show=win_rate&by=person&bucket=last_8_quarters&draw=line",
    "/team/saved-reports/",
    "/team/wall/",
    "/team/deals-by-rep/?rep=r08&part=2",
    "/team/one-to-ones/r08/",
    "/team/contact-gaps/?rep=r05&part=4",
    "/setup/contact-intervals/",
    "/tokens/",
    "/setup/",
    "/setup/stages/new_site/",
    "/setup/stages/new_site/ns_offer/",
    "/setup/processes/",
    "/setup/quotas/",
    "/setup/quotas/parts/",
    "/setup/tree/teams/",
    "/setup/lists/deal-types/",
    "/setup/lists/people/r08/",
    "/setup/people/r12/hand-over/?rule=territory&taker=r10&taker=r13",
    "/setup/lists/lead-steps/",
    "/setup/organisation/",
    "/setup/imports/",
    "/setup/audit/",
    "/setup/outbox/",
    "/setup/backups/",
    "/setup/start/",
)


# Rows that look like one before them, all ancestors and classes alike, have its colours and its faults too.
LEAVE_ONE_OF_EACH_LOOK = """() => {
    const look = node => node.tagName + '.' + (node.getAttribute('class') || '')
    const seen = new Set()
    for (const row of [...document.querySelectorAll('main tr, main li')]) {
        const chain = []
        for (let node = row; node; node = node.parentElement) chain.push(look(node))
        const key = chain.join('<') + '|' + [...row.querySelectorAll('*')].map(look).join(' ')
        if (seen.has(key)) row.remove()
        seen.add(key)
    }
}"""


def faults_of(page, but_colours=True):
    """What axe-core finds, once for each look, and whether the page scrolls sideways."""
    wide = page.evaluate("document.documentElement.scrollWidth > window.innerWidth")
    page.evaluate(LEAVE_ONE_OF_EACH_LOOK)
    rules = {} if but_colours else {"runOnly": ["color-contrast"]}
    found = Axe().run(page, options={"resultTypes": ["violations"]} | rules).response["violations"]
    return [(v["id"], v["nodes"][0]["html"][:160]) for v in found] + (["scrolls sideways"] if wide else [])


@pytest.mark.parametrize(("width", "height", "scheme"), [(1280, 800, "light"), (390, 844, "dark")])
def test_each_view_is_clean(visit, width, height, scheme):
    page = visit("admin", width=width, height=height, scheme=scheme)
    base = page.url.split("/forecast")[0]
    found = {}
    for view in VIEWS:
        page.goto(base + view)
        # The same page in the dark and narrow differs in width and in colours alone.
        if faults := faults_of(page, but_colours=scheme == "light"):
            found[view] = faults
    assert not found, "\n".join(f"{view}: {faults}" for view, faults in found.items())
    page.context.clear_cookies()
    page.goto(f"{base}/sign-in/")
    assert not faults_of(page)
