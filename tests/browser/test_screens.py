"""Every main view: axe finds nothing, nothing scrolls sideways, in light and dark, wide and narrow."""

import pytest
from axe_playwright_python.sync_playwright import Axe

pytestmark = [pytest.mark.browser, pytest.mark.django_db(transaction=True)]
VIEWS = (
    "/forecast/?open=team:rivers/person:r08",
    "/forecast/?by=territory&as_of=2026-11-16",
    "/forecast/working/weighted/",
    "/forecast/through/",
    "/forecast/changed/?open=cause:won",
    "/forecast/range/",
    "/forecast/?form=year&rows=none",
    "/forecast/?by=source&within=deal_type&measure=deals&rows=all",
    "/forecast/what-if/",
    "/forecast/calls/",
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
    "/conversion/leads/",
    "/conversion/set-and-seen/?backtest=yes",
    "/conversion/records/",
    "/conversion/lost/",
    "/conversion/over-time/",
    "/attainment/?by=person",
    "/attainment/year/",
    "/attainment/compared/",
    "/attainment/commissions/of/r02/",
    "/attainment/cash/",
    "/team/",
    "/team/?board=this-week",
    "/team/?board=monday&arrange=yes",
    "/team/tally/?show=win_rate&by=person&bucket=last_8_quarters&draw=line",
    "/team/tallies/",
    "/team/wall/",
    "/team/open/?rep=r08&part=2",
    "/team/one-to-one/r08/",
    "/team/contact-gap/?rep=r05&part=4",
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
    "/setup/organisation/",
    "/setup/imports/",
    "/setup/audit/",
    "/setup/outbox/",
    "/setup/backups/",
    "/setup/start/",
)


def faults_of(page, rules=None):
    """What axe-core finds (by some rules only where given, none at all for no rule), and whether the page scrolls sideways."""
    options = {"resultTypes": ["violations"]} | ({"runOnly": rules} if rules else {})
    found = [] if rules == [] else Axe().run(page, options=options).response["violations"]
    wide = page.evaluate("document.documentElement.scrollWidth > window.innerWidth")
    return [(v["id"], v["nodes"][0]["html"][:160]) for v in found] + (["scrolls sideways"] if wide else [])


@pytest.mark.parametrize(("width", "height", "scheme"), [(1280, 800, "light"), (390, 844, "dark")])
def test_each_view_is_clean(visit, width, height, scheme):
    page = visit("admin", width=width, height=height, scheme=scheme)
    base = page.url.split("/forecast")[0]
    found = {}
    for place, view in enumerate(VIEWS):
        page.goto(base + view)
        # The same page in the dark and narrow differs in width, and in colours that all come from one file of tokens.
        rules = None if scheme == "light" else ["color-contrast"] if place % 3 == 0 else []
        if faults := faults_of(page, rules):
            found[view] = faults
    assert not found, "\n".join(f"{view}: {faults}" for view, faults in found.items())
    page.context.clear_cookies()
    page.goto(f"{base}/sign-in/")
    assert not faults_of(page)
