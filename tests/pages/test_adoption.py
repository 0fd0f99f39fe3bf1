"""Actual values become the set ones: shown first, done on a second press, earlier days left alone."""

import pytest

from tests.support.world import ask
from wise_tally.domain.process.models import Stage

pytestmark = pytest.mark.django_db
SEEN = "/conversion/probability-check/?period=FY2026&process=new_site"


def test_adopting_shows_its_effect_and_leaves_earlier_days_alone(demo, sign_in):
    client = sign_in("m1")
    page = client.get(SEEN)
    assert "Offer" in page.context["off"], "the demo's offers are set 18 points too high"
    row = next(row for row in page.context["rows"] if row.key == "ns_offer")
    past = ask("forecast", "FY2027-Q3", "2026-11-01")[""]["weighted"]
    rules = Stage.objects.get(key="ns_offer").rules
    count = rules.count()
    shown = client.post(SEEN, {"stage": ["ns_offer"]})
    effect = shown.context["effect"]
    assert effect.deals_moved > 0
    assert all(after < before for _, before, after in effect.quarters)
    assert len(effect.quarters) > 1
    assert rules.count() == count, "nothing is done by looking"
    for wrong, says in (
        ({"stage": []}, "Select at least one stage"),
        ({"stage": ["ns_offer"], "from_on": "2020-01-01"}, "not a valid date"),
    ):
        refused = client.post(SEEN, wrong | {"confirmed": "yes"})
        assert (refused.status_code, says in refused.content.decode()) == (422, True)
    assert client.post(SEEN, {"stage": ["ns_offer"], "confirmed": "yes"}).status_code == 302
    assert rules.order_by("-effective_at").first().probability_bp == row.rate.observed_bp
    now = ask("forecast", "FY2027-Q3", "2026-11-23")[""]["weighted"]
    would_be = {words: after for words, _, after in effect.quarters}
    assert round(float(now) * 100) == would_be["Q3 FY2027"], "what was shown is what came"
    assert ask("forecast", "FY2027-Q3", "2026-11-01")[""]["weighted"] == past


def test_typical_days_are_set_to_the_seen_median(demo, sign_in):
    client = sign_in("m1")
    group = client.get("/conversion/time/?period=FY2026&process=new_site").context["groups"][0]
    median = next(row.time.km_median for row in group.rows if row.key == "ns_plan")
    address = "/conversion/time/typical-days/?period=FY2026&process=new_site"
    assert client.post(address, {"stage": "ns_won"}).status_code == 422
    assert client.post(address, {"stage": ["ns_plan"]}).status_code == 302
    rule = Stage.objects.get(key="ns_plan").rules.order_by("-effective_at").first()
    assert rule.typical_days_hundredths == round(median * 100)


def test_the_truths_of_the_demo_stand_on_these_pages(demo, sign_in):
    """Who overstays, what is set too high, where one source is better, who calls too much: seen, not known."""
    client = sign_in("m1")
    over = client.get("/conversion/time/?by=person&period=FY2027&process=new_site").context["groups"]
    plan = {g.name: next(r.time.overstaying for r in g.rows if r.key == "ns_plan") or 0 for g in over}
    assert max(plan, key=plan.get) == "Odran Tully"
    records = client.get("/forecast/accuracy/").context["people"]
    called = {record.name: record.together.call_error or 0 for record, *_ in records}
    assert max(called, key=called.get) == "Teague Arlen"
    rates = {}
    for place in ("headwaters", "lowland", "coastal", "lakeland"):
        page = client.get(f"/conversion/?by=source&where={place}&period=2023-04-01/2026-11-23&process=new_site")
        for *_, group in page.context["groups"]:
            if group.totals.closed_won + group.totals.closed_lost >= 20:
                rates[place, group.name] = group.totals.win_rate_of_closed
    assert max(rates, key=rates.get) == ("lowland", "Referral"), "of all places and sources"
    page = client.get("/conversion/?by=source&where=upper_vale&period=2023-04-01/2026-11-23&process=new_site")
    of_vale = {group.name: group.totals.win_rate_of_closed for *_, group in page.context["groups"]}
    referral = of_vale.pop("Referral")
    assert referral > 2 * max(of_vale.values()), (referral, of_vale)


def test_pages_of_an_empty_period_say_so(demo, sign_in):
    client = sign_in("m1")
    for path in ("", "lead-conversion/", "time/", "probability-check/", "loss-reasons/"):
        page = client.get(f"/conversion/{path}?period=FY2010")
        assert page.status_code == 200
        assert "No " in page.content.decode() or "too few" in page.content.decode()
    assert client.get("/conversion/loss-reasons/?by=hope").status_code == 400
    assert client.get("/conversion/?against=hope").status_code == 400
