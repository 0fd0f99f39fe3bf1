"""One table of address, method and role → status; an address missing from it fails."""

import re
from html import unescape

import pytest
from django.urls import URLPattern, URLResolver, get_resolver, resolve

from tests.support.posts import POSTS

pytestmark = pytest.mark.django_db
# Deal d9001 belongs to r08 of the Rivers team; r01 is of the Fells team; m2 manages Fells; m1 both regions.
WHO = ("nobody", "r01", "r08", "m2", "m1", "a1", "viewer")
ALL_IN = (302, 200, 200, 200, 200, 200, 200)
OWN_DEAL = (302, 404, 200, 404, 200, 200, 200)
OWN_ROW = (302, 404, 200, 404, 200, 200, 200)
CHANGE = (302, 404, 422, 404, 422, 422, 422)
ADMIN_ONLY = (302, 403, 403, 403, 403, 422, 403)
IMPORTERS = (302, 403, 403, 403, 403, 200, 403)
NO_IMPORT = (302, 403, 403, 403, 403, 404, 403)
SET = (302, 403, 403, 422, 422, 422, 403)
TABLE = {
    ("home", "get", "/"): (302,) * 7,
    ("sign-in", "get", "/sign-in/"): (200,) * 7,
    ("demo-sign-in", "post", "/sign-in/demo/"): (400,) * 7,
    ("password", "get", "/password/"): ALL_IN,
    ("password", "post", "/password/"): (302, 422, 422, 422, 422, 422, 422),
    ("pin", "post", "/pins/"): (302, 422, 422, 422, 422, 422, 422),
    ("reconcile", "get", "/compare/"): ALL_IN,
    ("pick", "get", "/pick/who/?q=riv"): ALL_IN,
    ("parts", "get", "/parts/"): ALL_IN,
    ("typed", "get", "/typed/"): (302,) * 7,
    ("typed", "post", "/typed/"): (302,) * 7,
    ("sign-out", "post", "/sign-out/"): (302,) * 7,
    ("brief:page", "get", "/brief/"): ALL_IN,
    ("brief:table", "get", "/brief/table.csv"): ALL_IN,
    ("brief:findings", "get", "/brief/findings/"): ALL_IN,
    ("brief:working", "get", "/brief/working/"): (302, 404, 404, 404, 404, 404, 404),
    ("brief:working", "get", "/brief/working/?finding=decides:deal:d9001"): (302, 404, 200, 404, 200, 200, 200),
    ("brief:put-aside", "post", "/brief/put-aside/"): (302, 404, 404, 404, 404, 404, 404),
    ("brief:take-back", "post", "/brief/take-back/"): (302,) * 7,
    ("brief:agree", "post", "/brief/agree/"): (302, 403, 403, 404, 404, 404, 403),
    ("brief:kept-briefs", "get", "/brief/kept/"): ALL_IN,
    ("brief:kept", "get", "/brief/kept/none/"): (302, 404, 404, 404, 404, 404, 404),
    ("brief:mail", "get", "/brief/by-mail/"): ALL_IN,
    ("brief:mail", "post", "/brief/by-mail/?hour=x"): (302, 422, 422, 422, 422, 422, 422),
    ("brief:unsubscribe", "get", "/brief/unsubscribe/none/"): (200,) * 7,
    ("brief:unsubscribe", "post", "/brief/unsubscribe/none/"): (404,) * 7,
    ("brief:bounds", "get", "/brief/bounds/"): (302, 403, 403, 200, 200, 200, 403),
    ("forecast:page", "get", "/forecast/"): ALL_IN,
    ("forecast:working", "get", "/forecast/working/weighted/"): ALL_IN,
    ("forecast:not-counted", "get", "/forecast/deals/"): ALL_IN,
    ("forecast:table", "get", "/forecast/table.csv"): ALL_IN,
    ("forecast:through", "get", "/forecast/trend/"): ALL_IN,
    ("forecast:through-table", "get", "/forecast/trend/table.csv"): ALL_IN,
    ("forecast:changed", "get", "/forecast/changed/"): (302, 200, 200, 200, 200, 200, 200),
    ("forecast:changed-table", "get", "/forecast/changed/table.csv"): (302, 200, 200, 200, 200, 200, 200),
    ("forecast:outlook", "get", "/forecast/outlook/"): (302, 200, 200, 200, 200, 200, 200),
    ("forecast:outlook-table", "get", "/forecast/outlook/table.csv"): (302, 200, 200, 200, 200, 200, 200),
    ("forecast:what-if", "get", "/forecast/what-if/"): ALL_IN,
    ("forecast:calls-table", "get", "/forecast/submitted/table.csv"): ALL_IN,
    ("forecast:calls", "get", "/forecast/submitted/"): (302, 200, 200, 200, 200, 200, 200),
    ("deals:page", "get", "/deals/"): ALL_IN,
    ("deals:table", "get", "/deals/table.json"): ALL_IN,
    ("deals:list-figure", "get", "/deals/working/amount/"): ALL_IN,
    ("deals:figure", "get", "/deals/d9001/working/weighted/"): OWN_DEAL,
    ("deals:chance-working", "get", "/deals/d9001/chance/"): OWN_DEAL,
    ("forecast:changed-working", "get", "/forecast/changed/working/"): ALL_IN,
    ("customers:account-table", "get", "/customers/account/ac001/table.csv"): (302, 404, 200, 404, 200, 200, 200),
    ("customers:figure", "get", "/customers/account/ac001/working/unpaid/"): (302, 404, 200, 404, 200, 200, 200),
    ("today:working", "get", "/today/working/"): ALL_IN,
    ("setup:quota-words", "get", "/setup/quotas/words/"): (302, 403, 403, 200, 200, 200, 403),
    ("setup:quota-working", "get", "/setup/quotas/working/own/?node=company:"): (302, 403, 403, 404, 200, 200, 200),
    ("deals:deal", "get", "/deals/d9001/"): OWN_DEAL,
    ("deals:columns", "post", "/deals/columns-of-the-list/"): (302, 302, 302, 302, 302, 302, 302),
    ("deals:new", "get", "/deals/new-deal/"): (302, 200, 200, 200, 200, 200, 403),
    ("deals:part", "get", "/deals/d9001/part/lines/"): (302, 404, 200, 404, 200, 200, 200),
    ("deals:file", "get", "/deals/d9001/files/none/"): (302, 404, 404, 404, 404, 404, 404),
    ("deals:quote", "get", "/deals/d9001/quote/"): (302, 404, 200, 404, 200, 200, 200),
    ("customers:accounts", "get", "/customers/accounts/"): (302, 200, 200, 200, 200, 200, 200),
    ("names", "get", "/names/accounts/?q=Orr"): ALL_IN,
    ("customers:table", "get", "/customers/accounts/table.csv"): (302, 200, 200, 200, 200, 200, 200),
    ("customers:new-account", "get", "/customers/accounts/new/"): (302, 200, 200, 200, 200, 200, 403),
    ("customers:account", "get", "/customers/account/ac001/"): (302, 404, 200, 404, 200, 200, 200),
    ("customers:change-account", "get", "/customers/account/ac001/change/"): (302, 404, 200, 404, 200, 200, 403),
    ("customers:merge", "get", "/customers/account/ac001/merge/"): (302, 404, 200, 404, 200, 200, 403),
    ("customers:vcards", "get", "/customers/account/ac001/contacts.vcf"): (302, 404, 200, 404, 200, 200, 200),
    ("calendar-feed", "get", "/calendar/guessed.ics"): (404,) * 7,
    ("customers:new-contact", "get", "/customers/account/ac001/contacts/"): (302, 404, 200, 404, 200, 200, 403),
    ("customers:contact", "get", "/customers/contact/c0001/"): (302, 404, 200, 404, 200, 200, 403),
    ("customers:contact-data", "get", "/customers/contact/c0001/personal/"): (302, 403, 403, 403, 403, 200, 403),
    ("customers:lead-data", "get", "/customers/lead/l0621/personal/"): (302, 403, 403, 403, 403, 200, 403),
    ("customers:write", "get", "/customers/contact/c0001/write/"): (302, 404, 200, 404, 200, 200, 403),
    ("customers:leads", "get", "/customers/leads/"): (302, 200, 200, 200, 200, 200, 200),
    ("customers:leads-table", "get", "/customers/leads/table.csv"): (302, 200, 200, 200, 200, 200, 200),
    ("customers:new-lead", "get", "/customers/leads/new/"): (302, 200, 200, 200, 200, 200, 403),
    ("customers:lead", "get", "/customers/lead/l0621/"): (302, 404, 404, 200, 200, 200, 200),
    ("customers:lead-figure", "get", "/customers/lead/l0621/working/"): (302, 404, 404, 200, 200, 200, 200),
    ("today:today", "get", "/today/"): (302, 200, 200, 200, 200, 200, 200),
    ("today:find", "get", "/find/"): (302, 200, 200, 200, 200, 200, 200),
    ("conversion:page", "get", "/conversion/"): ALL_IN,
    ("conversion:time", "get", "/conversion/time/"): ALL_IN,
    ("conversion:time-table", "get", "/conversion/time/table.csv"): ALL_IN,
    ("conversion:leads", "get", "/conversion/lead-conversion/"): ALL_IN,
    ("conversion:leads-working", "get", "/conversion/lead-conversion/working/leads/"): ALL_IN,
    ("conversion:leads-table", "get", "/conversion/lead-conversion/table.csv"): ALL_IN,
    ("conversion:probability-check", "get", "/conversion/probability-check/"): ALL_IN,
    ("conversion:probability-check-working", "get", "/conversion/probability-check/working/?stage=ns_offer"): ALL_IN,
    ("conversion:test-working", "get", "/conversion/probability-check/back-test/error-set/"): ALL_IN,
    ("conversion:probability-check-table", "get", "/conversion/probability-check/table.csv"): ALL_IN,
    ("forecast:accuracy", "get", "/forecast/accuracy/"): ALL_IN,
    ("forecast:accuracy-working", "get", "/forecast/accuracy/working/hope/"): (302, 404, 404, 404, 404, 404, 404),
    ("forecast:accuracy-table", "get", "/forecast/accuracy/table.csv"): ALL_IN,
    ("conversion:lost", "get", "/conversion/loss-reasons/"): ALL_IN,
    ("conversion:lost-working", "get", "/conversion/loss-reasons/working/"): ALL_IN,
    ("conversion:lost-table", "get", "/conversion/loss-reasons/table.csv"): ALL_IN,
    ("conversion:over-time", "get", "/conversion/monthly-trend/"): ALL_IN,
    ("conversion:over-time-working", "get", "/conversion/monthly-trend/working/velocity/"): ALL_IN,
    ("conversion:over-time-table", "get", "/conversion/monthly-trend/table.csv"): ALL_IN,
    ("conversion:working", "get", "/conversion/working/of_closed/"): ALL_IN,
    ("conversion:table", "get", "/conversion/table.xlsx"): ALL_IN,
    ("attainment:page", "get", "/attainment/"): ALL_IN,
    ("attainment:table", "get", "/attainment/table.csv"): ALL_IN,
    ("attainment:working", "get", "/attainment/working/needed/?by=person&node=person:r08"): OWN_ROW,
    ("attainment:year", "get", "/attainment/year-progress/"): ALL_IN,
    ("attainment:compared", "get", "/attainment/period-comparison/"): ALL_IN,
    ("attainment:compared-table", "get", "/attainment/period-comparison/table.csv"): ALL_IN,
    ("attainment:commissions", "get", "/attainment/commissions/"): ALL_IN,
    ("attainment:commissions-table", "get", "/attainment/commissions/table.csv"): ALL_IN,
    ("attainment:commissions-working", "get", "/attainment/commissions/working/commission/"): ALL_IN,
    ("attainment:statement", "get", "/attainment/commissions/of/r08/"): (302, 404, 200, 404, 200, 200, 404),
    ("attainment:cash", "get", "/attainment/cash/"): ALL_IN,
    ("attainment:cash-table", "get", "/attainment/cash/table.csv"): ALL_IN,
    ("attainment:cash-working", "get", "/attainment/cash/working/won/"): ALL_IN,
    ("team:page", "get", "/team/"): ALL_IN,
    ("team:wall", "get", "/team/wall/"): ALL_IN,
    ("team:pack", "get", "/team/pack/"): ALL_IN,
    ("team:tally", "get", "/team/report/"): ALL_IN,
    ("team:tally-working", "get", "/team/report/working/?show=created"): ALL_IN,
    ("team:tally-table", "get", "/team/report/table.csv"): ALL_IN,
    ("team:tallies", "get", "/team/saved-reports/"): ALL_IN,
    ("team:week", "get", "/team/this-week/"): ALL_IN,
    ("team:week-table", "get", "/team/this-week/table.csv"): ALL_IN,
    ("team:week-working", "get", "/team/this-week/working/won/"): ALL_IN,
    ("team:open", "get", "/team/deals-by-rep/"): ALL_IN,
    ("team:open-working", "get", "/team/deals-by-rep/working/?rep="): ALL_IN,
    ("team:open-table", "get", "/team/deals-by-rep/table.csv"): ALL_IN,
    ("team:one-to-ones", "get", "/team/one-to-ones/"): ALL_IN,
    ("team:one-to-one", "get", "/team/one-to-ones/r08/"): (302, 403, 200, 403, 200, 200, 200),
    ("team:gaps", "get", "/team/contact-gaps/"): ALL_IN,
    ("team:gaps-working", "get", "/team/contact-gaps/working/?rep="): ALL_IN,
    ("team:gaps-table", "get", "/team/contact-gaps/table.csv"): ALL_IN,
    ("setup:contact-intervals", "get", "/setup/contact-intervals/"): ALL_IN,
    ("tokens", "get", "/tokens/"): ALL_IN,
    ("api:openapi-json", "get", "/api/openapi.json"): (200,) * 7,
    ("api:api-root", "get", "/api/"): (404,) * 7,
    ("api:figure", "get", "/api/figures/forecast"): (401,) * 7,
    ("api:figure_csv", "get", "/api/figures/forecast/csv"): (401,) * 7,
    ("api:deals", "get", "/api/deals"): (401,) * 7,
    ("api:deals_csv", "get", "/api/deals/csv"): (401,) * 7,
    ("api:deal", "get", "/api/deals/d9001"): (401,) * 7,
    ("api:names", "get", "/api/tallies"): (401,) * 7,
    ("api:tally", "get", "/api/tallies/days-to-win"): (401,) * 7,
    ("api:tally_csv", "get", "/api/tallies/days-to-win/csv"): (401,) * 7,
    ("setup:page", "get", "/setup/"): ALL_IN,
    ("setup:stages", "get", "/setup/stages/new_site/"): ALL_IN,
    ("setup:processes", "get", "/setup/processes/"): ALL_IN,
    ("setup:stage", "get", "/setup/stages/new_site/ns_offer/"): ALL_IN,
    ("setup:organisation", "get", "/setup/organisation/"): ALL_IN,
    ("setup:entries", "get", "/setup/lists/people/"): ALL_IN,
    ("setup:order", "post", "/setup/order-of/categories/"): (302, 403, 403, 400, 400, 400, 403),
    ("setup:entry", "get", "/setup/lists/categories/commit/"): ALL_IN,
    ("setup:tree", "get", "/setup/tree/territories/"): ALL_IN,
    ("setup:person", "post", "/setup/people/r08/"): (302, 403, 403, 403, 403, 400, 403),
    ("setup:hand-over", "get", "/setup/people/r08/hand-over/?rule=account&taker=r05"): IMPORTERS,
    ("setup:hand-over-undo", "post", "/setup/people/r08/hand-over/undo/"): (302, 403, 403, 403, 403, 409, 403),
    ("setup:start", "get", "/setup/start/"): (302, 403, 403, 403, 403, 200, 403),
    ("imports:look-around", "post", "/setup/imports/look-around/"): (302, 403, 403, 403, 403, 409, 403),
    ("imports:imports", "get", "/setup/imports/"): IMPORTERS,
    ("imports:import", "get", "/setup/imports/9/"): NO_IMPORT,
    ("imports:faulty", "get", "/setup/imports/9/rows-to-mend.csv"): NO_IMPORT,
    ("setup:stage-file", "get", "/setup/stages/new_site/ns_offer/files/none/"): (302, 404, 404, 404, 404, 404, 404),
    ("setup:audit", "get", "/setup/audit/"): IMPORTERS,
    ("setup:audit-table", "get", "/setup/audit/table.csv"): IMPORTERS,
    ("setup:outbox", "get", "/setup/outbox/"): IMPORTERS,
    ("setup:outbox-document", "get", "/setup/outbox/9/document/"): NO_IMPORT,
    ("setup:backups", "get", "/setup/backups/"): (302, 403, 403, 403, 403, 200, 403),
    ("setup:package", "get", "/setup/backups/package.zip"): (302, 403, 403, 403, 403, 200, 403),
    ("setup:backup-file", "get", "/setup/backups/none.sqlite3"): (302, 403, 403, 403, 403, 404, 403),
    ("setup:backups", "post", "/setup/backups/"): (302, 403, 403, 403, 403, 409, 403),
    ("setup:quotas", "get", "/setup/quotas/"): (302, 403, 403, 200, 200, 200, 200),
    ("setup:quota-sheet", "get", "/setup/quotas/sheet.csv"): (302, 403, 403, 200, 200, 200, 200),
    ("setup:quota-parts", "get", "/setup/quotas/parts/"): ALL_IN,
}


def names(patterns, prefix=""):
    for pattern in patterns:
        if isinstance(pattern, URLResolver):
            space = f"{pattern.namespace}:" if pattern.namespace else ""
            yield from names(pattern.url_patterns, prefix + space)
        elif isinstance(pattern, URLPattern) and pattern.name:
            yield prefix + str(pattern.name)


def test_every_address_is_in_the_table():
    """Or among the valid requests, which are sent by each role about each one's things."""
    sent = {resolve(re.sub(r"\{\w+\}", "1", address).partition("?")[0]).view_name for address, *_ in POSTS}
    assert set(names(get_resolver().url_patterns)) == {name for name, _, _ in TABLE} | sent


def viewer():
    """A person who may only read; the lead of the table belongs to a rep of the Fells team."""
    from django.contrib.auth.models import User

    from wise_tally.domain.deals.models import Lead
    from wise_tally.domain.org.models import Person

    Lead.objects.filter(key="l0621").update(owner=Person.objects.get(key="r03"))
    user = User.objects.create(username="viewer")
    Person.objects.create(key="viewer", name="V", role="viewer", user=user)


def test_each_role_gets_what_the_table_says(demo, client, sign_in, monkeypatch):
    """Statuses alone, so that nothing is drawn; what each role is shown is looked at in the other tests and in `test_doors`."""
    monkeypatch.setattr("django.template.backends.django.Template.render", lambda *given: "")
    viewer()
    found = {}
    for place, who in enumerate(WHO):
        begins_anew = True
        for entry, expected in TABLE.items():
            if begins_anew:
                client.logout()
                if who != "nobody":
                    sign_in(who)
            answer = getattr(client, entry[1])(entry[2])
            # What ends a session or leaves something in it would change the answers after it.
            begins_anew = entry[0] in ("sign-out", "demo-sign-in")
            if answer.status_code != expected[place]:
                found[who, *entry] = (answer.status_code, expected[place])
    assert not found


@pytest.mark.parametrize("who", ["r01", "viewer"])
def test_no_page_links_to_what_its_reader_may_not_open(demo, sign_in, who):
    """Each page with something on it and with nothing; of the addresses that it links to one of each kind."""
    viewer()
    client, kinds = sign_in(who), {}
    for (_, method, path), statuses in TABLE.items():
        if method == "get" and statuses[WHO.index(who)] == 200 and not re.search("table[.]|working|api", path):
            empty = f"{path}{'&' if '?' in path else '?'}period=FY2031&by=deal_type"
            for page in (path, empty) if who == "r01" else (empty,):
                shown = b"".join(client.get(page)).decode(errors="replace")
                assert 'href="#main"' not in shown or re.search(
                    "Main navigation.*?/attainment/.*?/setup/", shown, re.S
                ), page
                for href in re.findall(r'href="(/[^"#]+)"', shown):
                    if not href.startswith("/static/"):
                        kinds.setdefault(resolve(unescape(href).partition("?")[0]).view_name, (unescape(href), page))
    assert len(kinds) > 60
    assert {name: found for name, found in kinds.items() if client.get(found[0]).status_code == 403} == {}


@pytest.mark.parametrize(
    ("who", "query", "status"),
    [
        ("r01", "?who=person:r02", 403),
        ("r01", "?who=team:fells", 403),
        ("r01", "?who=person:r01", 200),
        ("m2", "?who=team:rivers", 403),
        ("m2", "?who=person:r08", 403),
        ("m2", "?who=person:r02", 200),
        ("m1", "?who=team:rivers", 200),
    ],
)
def test_scopes_of_others_are_closed(demo, sign_in, who, query, status):
    client = sign_in(who)
    for address in ("/forecast/", "/deals/", "/conversion/", "/attainment/", "/team/", "/forecast/table.json"):
        assert client.get(address + query).status_code == status, address


def test_a_rep_sees_only_own_deals_and_figures(demo, sign_in):
    """Neither list, grid nor workings name a deal of somebody else."""
    from wise_tally.domain.deals.models import Deal

    client = sign_in("r01")
    rows = client.get("/deals/table.json?status=all").json()["rows"]
    assert rows
    assert {row[5] for row in rows} <= {"Iva Marrin"} | credited_owners()
    text = client.get("/attainment/?by=person").content.decode()
    assert "Iva Marrin" in text
    assert "Odran Tully" not in text
    assert client.get("/forecast/working/won/?node=person:r02").status_code == 404
    assert Deal.objects.count() > 1_000


def credited_owners():
    """Owners of deals that r01 has credit in."""
    from wise_tally.domain.deals.actions import last_revision
    from wise_tally.domain.deals.models import Deal

    return {last_revision(deal).owner.name for deal in Deal.objects.filter(credits__person__key="r01")}
