"""Every figure opens its working, and the working's total is the figure."""

import re
from html.parser import HTMLParser

import pytest

pytestmark = pytest.mark.django_db
PAGES = (
    "/forecast/",
    "/forecast/?form=year&by=source",
    "/forecast/?by=product_group&within=partner&measure=margin&basis=payment",
    "/forecast/?by=own:site_access&measure=deals&rows=all",
    "/forecast/trend/",
    "/forecast/changed/?from=2026-10-01",
    "/forecast/changed/?from=2026-10-01&counting=margin",
    "/forecast/changed/?from=2026-10-01&counting=deals",
    "/forecast/outlook/",
    "/forecast/what-if/",
    "/forecast/submitted/",
    "/deals/?cols=weighted,days,over,slips,slipped,margin,gap,contacted,amount",
    "/deals/?view=lanes",
    "/deals/?view=lanes&by=category&within=period",
    "/deals/d9001/",
    "/customers/accounts/",
    "/customers/account/ac001/",
    "/customers/leads/",
    "/forecast/deals/",
    "/today/",
    "/conversion/",
    "/conversion/?by=product_group",
    "/conversion/?who=person:r08&against=team",
    "/conversion/?against=year",
    "/conversion/time/?by=size",
    "/conversion/time/?per=deal",
    "/conversion/lead-conversion/",
    "/conversion/probability-check/?by=source&backtest=yes",
    "/forecast/accuracy/",
    "/conversion/loss-reasons/",
    "/conversion/loss-reasons/?by=stage",
    "/conversion/loss-reasons/?by=month&measure=value",
    "/conversion/monthly-trend/",
    "/attainment/?by=person&period=FY2027-Q3",
    "/attainment/?measure=activities&by=person&kind=phone",
    "/attainment/?measure=quantity&by=product_group",
    "/attainment/year-progress/",
    "/attainment/period-comparison/?by=person&against=year",
    "/attainment/commissions/",
    "/attainment/commissions/of/r02/",
    "/attainment/cash/",
    "/team/",
    "/team/?board=pipeline-health",
    "/team/?board=process",
    "/team/?board=this-week",
    "/team/report/?show=won_of_created&by=source&draw=table",
    "/team/report/?show=won&by=person&bucket=month",
    "/team/report/?show=open&by=territory&within=process",
    "/team/deals-by-rep/?along=month",
    "/team/one-to-ones/r08/",
    "/team/contact-gaps/",
    "/setup/quotas/",
)
# What is counted and added up; plain facts of records (an amount typed, an invoice, an age) are not figures.
LOOKS_LIKE_ONE = re.compile(r"\s*[−+▲▼]?\s*[−+]?\d[\d\u00a0.,]*\s*(\u00a0?%|k|m|×|d)?\s*")


class Figures(HTMLParser):
    """The figures of a page that open a working, as address and text; large ones that open none."""

    def __init__(self):
        super().__init__()
        self.stack, self.opening, self.closed = [], [], []

    def handle_starttag(self, tag, attrs):
        given = dict(attrs)
        if tag == "a" and "open-figure" in (given.get("class") or ""):
            self.opening.append([given["href"], given.get("x-target"), ""])
        if tag not in ("input", "br", "img", "meta", "link"):
            self.stack.append((tag, given.get("class") or ""))

    def handle_endtag(self, tag):
        while self.stack and self.stack.pop()[0] != tag:
            pass

    def take_text(self, data):
        if any(tag == "a" and "open-figure" in css for tag, css in self.stack):
            self.opening[-1][2] += data
        elif (
            self.stack and "large" in self.stack[-1][1] and self.stack[-1][0] != "a" and LOOKS_LIKE_ONE.fullmatch(data)
        ):
            self.closed.append(data)

    handle_data = take_text


def digits(text):
    """The number a text shows, as a number; None where it is shortened."""
    text = text.replace("\u00a0", "").replace("−", "-").replace("▲", "").replace("▼", "").strip()
    found = re.fullmatch(r"\+?(-?\d+(?:\.\d+)?)(%|×|d)?", text)
    return float(found[1]) if found else None


@pytest.mark.parametrize("path", PAGES)
def test_every_figure_of_a_page_opens_a_working_that_ends_in_it(path, demo, sign_in):
    client = sign_in("m1")
    page = Figures()
    page.feed(client.get(path).content.decode())
    assert not page.closed, "a large figure without a working"
    assert page.opening
    by_address = {(address, text.strip()): target for address, target, text in page.opening}
    # Of the many alike some of each kind are opened.
    kinds = {}
    for (address, text), target in by_address.items():
        kinds.setdefault(re.sub(r"\?.*|d\d+|ac\d+", "", address), []).append((address, text, target))
    for found in kinds.values():
        for address, text, target in found[:: max(1, len(found) // 4)][:5]:
            assert target == "working"
            answer = client.get(address, headers={"X-Alpine-Target": "working"})
            assert answer.status_code == 200, address
            assert answer.text.lstrip().startswith("<aside"), "beside a page the panel alone"
            panel = answer.context["panel"]
            assert answer.context["all_url"] or not panel.folded, f"{address} shows not all deals and links no list"
            shown, total = digits(text), digits(str(panel.total))
            assert panel.definition
            if shown is not None and total is not None and not str(panel.total).endswith("deals"):
                terms = [digits(str(term.value)) for term in panel.terms]
                near = [value for value in (total, panel.counted, *terms) if value is not None]
                assert any(abs(value - shown) <= 1 for value in near), (address, text, panel.total)


def test_a_working_lists_exactly_the_deals_it_counts(demo, sign_in):
    client = sign_in("m1")
    for address in (
        "/forecast/working/weighted/?node=company:",
        "/forecast/working/won/?node=team:rivers/person:r08&period=FY2027",
        "/conversion/working/reached/?period=FY2027&stage=ns_offer",
        "/conversion/working/value/?period=FY2027&stage=ns_offer",
        "/conversion/working/reached/?period=FY2027&stage=ns_offer&counting=strict&by=person&row=r08",
        "/conversion/working/lost/?period=FY2027&stage=ns_survey&leave_out=ns_plan",
        "/conversion/working/lost/?period=FY2027&stage=ns_terms&counting=strict&basis=entered",
        "/conversion/loss-reasons/working/?period=FY2026&by=stage&value=0&reason=1",
        "/conversion/loss-reasons/working/?period=FY2027&by=month&value=3&side=before",
        "/conversion/working/of_closed/?period=FY2027",
        "/conversion/working/exits-lost/?period=FY2027&stage=ns_offer",
        "/conversion/working/days_to_win/?period=FY2026&by=territory&row=headwaters",
        "/conversion/working/time/?period=FY2026&stage=ns_offer&per=deal",
        "/conversion/probability-check/working/?period=FY2026&stage=ns_offer&by=source&row=Referral",
        "/conversion/monthly-trend/working/win_rate/?month=FY2027-M06",
        "/attainment/cash/working/all/?period=FY2027",
        "/attainment/commissions/working/commission/?period=FY2027",
        "/customers/account/ac001/working/open/",
        "/conversion/working/undecided/?period=FY2027&stage=ns_enquiry&by=territory&row=upper_vale",
    ):
        working = client.get(address)
        listed = client.get(working.context["all_url"])
        assert listed.context["list"].total == working.context["panel"].counted > 0
        assert listed.context["list"].counted_words.startswith(working.context["panel"].title)
    assert client.get("/conversion/working/lost/?stage=ns_won").status_code == 404
    assert client.get("/deals/?counted=/setup/").status_code == 404


def test_what_does_not_exist_says_what_is_accepted(demo, sign_in):
    client = sign_in("m1")
    for address in (
        "/deals/working/hope/",
        "/deals/d9001/working/hope/",
        "/deals/d9001/working/days/?as_of=2000-01-01",
        "/customers/account/ac001/working/hope/",
        "/setup/quotas/working/hope/",
        "/setup/quotas/working/own/?node=person:nobody",
        "/forecast/changed/working/?open=deal:nobody",
        "/forecast/working/chance/?won=nobody",
        "/forecast/working/weighted/?node=own:nothing:x",
    ):
        answer = client.get(address)
        assert answer.status_code == 404, address
        assert re.search(r"Choose|Enter|Use|accepted|Select|Go back", answer.content.decode()), address
    assert client.get("/forecast/changed/working/?open=row:nowhere").status_code == 400
