"""Addresses: what a page says its address may hold is accepted, and every address that it makes of it is, too."""

import re
from datetime import date
from html import unescape
from urllib.parse import urlencode

import pytest
from django.urls import reverse
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from wise_tally.pages.attainment.commissions import Commissions
from wise_tally.pages.attainment.period_comparison import ComparisonQuery
from wise_tally.pages.attainment.query import AttainmentQuery
from wise_tally.pages.brief.views import FindingsQuery
from wise_tally.pages.conversion.loss_reasons import LossQuery
from wise_tally.pages.conversion.probability_check import CheckQuery
from wise_tally.pages.conversion.query import ConversionQuery
from wise_tally.pages.deals.board import BoardQuery
from wise_tally.pages.deals.customers.accounts import AccountQuery
from wise_tally.pages.deals.customers.leads import LeadQuery
from wise_tally.pages.deals.listing import ListQuery
from wise_tally.pages.forecast.forecast_accuracy import AccuracyQuery
from wise_tally.pages.forecast.outlook import OutlookQuery
from wise_tally.pages.forecast.query import ForecastQuery
from wise_tally.pages.forecast.what_changed import ChangesQuery
from wise_tally.pages.setup.records.views import AuditQuery
from wise_tally.pages.team.contact_gap import GapQuery
from wise_tally.pages.team.deals_by_rep import ByRepQuery
from wise_tally.web.page_query import OwnQuery
from wise_tally.web.request.old_addresses import MOVED

pytestmark = pytest.mark.django_db
PAGES = {
    "attainment:commissions": Commissions,
    "attainment:compared": ComparisonQuery,
    "attainment:page": AttainmentQuery,
    "brief:findings": FindingsQuery,
    "conversion:lost": LossQuery,
    "conversion:page": ConversionQuery,
    "forecast:accuracy": AccuracyQuery,
    "conversion:probability-check": CheckQuery,
    "conversion:time": ConversionQuery,
    "customers:accounts": AccountQuery,
    "customers:leads": LeadQuery,
    "deals:page": ListQuery,
    "forecast:changed": ChangesQuery,
    "forecast:outlook": OutlookQuery,
    "forecast:page": ForecastQuery,
    "setup:audit": AuditQuery,
    "team:gaps": GapQuery,
    "team:open": ByRepQuery,
}
SCOPE = {
    "period": ("", "FY2027-Q2", "FY2026", "2026-10", "2026-10-05/2026-12-20"),
    "as_of": ("", "2026-10-05", "2025-04-30"),
    "who": ("", "team:north", "person:r03"),
    "where": ("", "headwaters"),
    "process": ("", "renewal"),
    "kept": ("", "source:is:Referral"),
}
# What free texts of an address may say: some of these a page refuses in words.
TEXTS = {"against": ("", "before", "year"), "figure": ("", "won", "gap"), "leave_out": ("ns_survey",), "sort": ("", "close,-amount"),
         "cols": ("", "amount,stage"), "stage": ("",), "counted": ("",), "won": ("",), "lost": ("",), "f": ("gap:from:1",),
         "open": ("", "team:north"), "shut": ("team:north",)}  # fmt: skip
LINKS_FOLLOWED = 4


def concrete(kind):
    """All page queries that are not only a base of others."""
    return (
        {kind}
        if not kind.__subclasses__()
        else {k for one in kind.__subclasses__() for k in concrete(one)}
        | {one for one in kind.__subclasses__() if one in PAGES.values()}
    )


def test_every_page_query_is_tried_here():
    BoardQuery  # noqa: B018 - the list in lanes: its links are followed from the list
    assert concrete(OwnQuery) - set(PAGES.values()) <= {BoardQuery}


def drawn(data, kind):
    """A query of a page: any accepted value of any parameter, and any scope."""
    asked = [(name, data.draw(st.sampled_from(values))) for name, values in SCOPE.items()]
    for name, (_, parameter) in kind.parameters().items():
        if parameter.accepted is not None:
            accepted = parameter.accepted() if callable(parameter.accepted) else parameter.accepted
            asked.append((name, data.draw(st.sampled_from([*accepted]))))
        else:
            usual = ("", "2026-10-01") if name in ("from", "to") else ("", "a")
            asked.append((name, data.draw(st.sampled_from(TEXTS.get(name, usual)))))
    return urlencode([(name, value) for name, value in asked if value])


@pytest.mark.parametrize("name", PAGES)
@settings(max_examples=6, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_an_address_that_a_page_makes_is_accepted_by_it(demo, sign_in, name, data):
    client, page = sign_in("m1" if not name.startswith("setup") else "a1"), reverse(name)
    query = drawn(data, PAGES[name])
    answer = client.get(f"{page}?{query}", follow=True)
    assert answer.status_code in (200, 400, 404), query
    if answer.status_code != 200:
        # Only what does not go together is refused, in words that say what does.
        assert re.search("Choose|Enter|names no|cannot|period", answer.content.decode()), query
        return
    made = sorted(set(re.findall(r'href="(\?[^"]+)"', answer.content.decode())))
    for href in data.draw(st.permutations(made))[:LINKS_FOLLOWED]:
        assert client.get(page + unescape(href), follow=True).status_code == 200, (query, unescape(href))


@pytest.mark.parametrize(
    "working",
    [
        "/conversion/working/reached/?process=new_site&stage=ns_plan",
        "/conversion/working/exits-won/?process=new_site&stage=ns_terms",
        "/conversion/working/time/?process=new_site&stage=ns_offer",
        "/conversion/probability-check/working/?process=new_site&stage=ns_offer",
        "/team/report/working/?show=stage_open&by=stage&process=new_site&row=ns_terms",
        "/forecast/working/weighted/?process=new_site&by=process&node=process:new_site",
    ],
)
def test_a_working_of_one_process_goes_on_to_another(demo, sign_in, working):
    """The stage of the one is none of the other: the first of it is shown, never a refusal."""
    client, path = sign_in("m1"), working.partition("?")[0]
    made = re.findall(r'href="(\?[^"]*process=renewal[^"]*)"', client.get(working).content.decode())
    assert made
    for href in made:
        assert client.get(path + unescape(href)).status_code == 200, href


def test_a_working_of_a_process_without_open_stages_says_so(demo, sign_in):
    sign_in("a1").post("/setup/processes/", {"name": "Bare", "start": "empty"})
    for working in ("/team/report/working/?show=stage_open&by=stage", "/conversion/working/time/?"):
        refused = sign_in("m1").get(f"{working}&process=bare")
        assert refused.status_code == 404
        assert "Choose" in refused.content.decode() or "choose" in refused.content.decode()


def test_an_address_says_only_what_is_not_as_usual(demo, sign_in):
    asked = sign_in("m1").get("/conversion/?by=company&basis=created&counting=strict&per=").context["query"]
    assert asked == "counting=strict"
    changed = sign_in("m1").get("/forecast/changed/").context["query"]
    assert changed == f"from={date(2026, 11, 16)}"


@pytest.mark.parametrize("old", MOVED)
def test_whoever_kept_an_earlier_address_is_sent_on(demo, sign_in, old):
    answer = sign_in("m1").get(f"/{old}?who=team:north&as_of=2026-10-05")
    assert (answer.status_code, answer.url) == (301, f"/{MOVED[old]}?who=team:north&as_of=2026-10-05")
    # What stands below it moved with it, whatever that is.
    assert sign_in("m1").get(f"/{old}table.csv").url == f"/{MOVED[old]}table.csv"


@pytest.mark.parametrize(
    ("address", "said", "place"),
    [
        ("/conversion/?by=foo", "Part of the address is not valid: by=foo.", "Conversion"),
        ("/forecast/?period=nonsense", "Part of the address is not valid: period=nonsense.", "Forecast"),
        ("/attainment/?who=person:nobody", "Part of the address is not valid: who=person:nobody.", "Attainment"),
    ],
)
def test_a_link_that_does_not_work_says_which_part_and_leads_on(demo, sign_in, address, said, place):
    client = sign_in("m1")
    refused = client.get(address)
    html = refused.content.decode()
    assert refused.status_code in (400, 404)
    assert "This link does not work" in html
    assert said in html
    onwards = re.search(rf'href="([^"]*)">Go to the {place} page', html)[1]
    assert client.get(onwards).status_code == 200


def test_a_period_of_two_days_is_typed_in_the_filter_line(demo, sign_in):
    """The form keeps the rest of the address, the links of the page go on with the period; wrong days say what to do."""
    client = sign_in("m1")
    html = client.get("/forecast/?who=team:north&by=territory").content.decode()
    form = next(part for part in html.split("<form")[1:] if 'name="first_day"' in part).partition("</form>")[0]
    carried = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', form))
    assert carried == {"who": "team:north", "by": "territory"}
    page = client.get("/forecast/", {**carried, "first_day": "2026-04-01", "last_day": "2026-06-15"})
    assert "1 Apr 2026 to 15 Jun 2026" in page.content.decode()
    assert "period=2026-04-01%2F2026-06-15" in page.content.decode()
    assert not re.search(r'href="[^"]*first_day=', page.content.decode()), "links name the period once"
    for days, said in (
        (("2026-06-15", "2026-04-01"), "Choose an end date on or after 15 Jun 2026"),
        (("2026-06-15", ""), "valid"),
    ):
        wrong = client.get("/forecast/", dict(zip(("first_day", "last_day"), days, strict=True)))
        assert (wrong.status_code, said in wrong.content.decode()) == (400, True)


def test_what_was_typed_wrong_is_no_broken_link(demo, sign_in):
    """A filter typed into the list is answered by what to enter."""
    refused = (
        sign_in("m1").get("/deals/", {"new_column": "amount", "new_test": "from", "new_value": "lots"}).content.decode()
    )
    assert "“lots” is not valid. Enter a number" in refused
    assert "This link does not work" not in refused
