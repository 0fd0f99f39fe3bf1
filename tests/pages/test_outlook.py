"""The outlook on its page, on deals, beside submitted forecasts, in what if and in the back-test; what nobody else may open."""

import json
import re

import pytest
from django.core.management import call_command

from tests.conftest import TODAY
from tests.support.answers import text
from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.core.outlook.back_test import OF_DEALS, past_periods, rolling_test
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org.models import Team
from wise_tally.interfaces.figures import figures
from wise_tally.interfaces.question import Question

pytestmark = pytest.mark.django_db
DAY, QUARTER = TODAY.isoformat(), "FY2027-Q3"


def told_deals():
    return {row["key"]: row for row in figures(Question("outlook-deals", TODAY, QUARTER))["rows"]}


def test_the_numbers_of_a_reason_open_the_deals_they_count(demo, sign_in):
    client, known = sign_in("a1"), told_deals()
    page = client.get("/forecast/outlook/")
    assert len(page.context["deals"]) == 8
    for deal in page.context["deals"]:
        row = known[deal.row.key]
        assert deal.stake.chance == pytest.approx(row["chance"])
        counted = dict(zip(("n", "k"), re.findall(r'href="([^"]+)"', str(deal.why)), strict=False))
        for name, address in counted.items():
            panel = client.get(address.replace("&amp;", "&")).context["panel"]
            assert panel.counted <= row[name]
            stays = len({line.book.deals.key[d] for line in [page.context["line"]] for d in deal.chance.like.deals})
            assert panel.counted == (stays if name == "n" else len(set(deal.chance.like.won.tolist())))
    # What decides most stands first, and the chance of quota lies between both ends of each.
    first = page.context["deals"][0].stake
    assert first.decides == max(deal.stake.decides for deal in page.context["deals"])
    for deal in page.context["deals"]:
        one, chance = deal.stake, page.context["chance"]
        assert one.chance * one.if_won + (1 - one.chance) * one.if_lost == pytest.approx(chance, abs=1e-3)


def test_a_rep_opens_own_chances_and_no_name_of_others(demo, sign_in):
    own = {row["key"] for row in figures(Question("outlook-deals", TODAY, QUARTER, person="r01"))["rows"]}
    others = set(told_deals()) - own
    client = sign_in("r01")
    assert client.get(f"/deals/{sorted(others)[0]}/chance/").status_code == 404
    panel = client.get(f"/deals/{sorted(own)[0]}/chance/").context["panel"]
    mine = set(Deal.objects.filter(revisions__owner__key="r01").values_list("key", flat=True))
    assert {deal.key for deal in panel.deals} <= mine
    assert "outside of what you may see" in panel.note
    assert client.get("/deals/nope/chance/").status_code == 404
    closed = Deal.objects.get(key=sorted(mine - own)[0])
    refused = client.get(f"/deals/{closed.key}/chance/")
    assert (refused.status_code, "not open on that day" in text(refused)) == (404, True)


def test_columns_of_the_forecast_and_a_report_are_the_command(demo, sign_in):
    client = sign_in("m1")
    client.post("/forecast/columns/", {"column": ["won", "outlook", "outlook_chance", "quota"]})
    page = client.get("/forecast/").context
    rows, columns = page["grid"], [column.key for column in page["columns"]]
    mean, chance = columns.index("outlook"), columns.index("outlook_chance")
    people, teams = ask("outlook", QUARTER, DAY, by="person"), ask("outlook", QUARTER, DAY, by="team")
    seen = 0
    for one in rows:
        node, values = one["row"].node, one["row"].values
        by, _, key = node.token.split("/")[-1].rpartition(":")
        known = {"person": people, "team": teams}.get(by)
        if known is None:
            continue
        seen += 1
        assert values[mean] == cents(known[key]["mean"])
        assert values[chance] == pytest.approx(known[key]["chance_of_quota"])
    assert seen > 15
    likely = client.get("/team/one-to-ones/").context["likely"]
    assert likely == {key: cents(row["mean"]) for key, row in people.items() if key in likely}
    assert len(likely) > 10
    report = client.get("/team/report/table.json?show=outlook&by=team").json()["rows"]
    assert {row[0]: cents(row[1]) for row in report} == {
        row["name"]: cents(row["mean"]) for key, row in teams.items() if key != "scope"
    }
    tile = client.get("/team/report/?show=outlook&by=team").content.decode()
    opened = re.search(r'href="(/forecast/working/outlook/[^"]*north[^"]*)"', tile)[1].replace("&amp;", "&")
    assert cents(re.sub(r"\s", "", client.get(opened).context["panel"].total)) == cents(teams["north"]["mean"])
    assert client.get("/forecast/?measure=quantity").status_code == 200
    assert client.get("/forecast/working/outlook/?measure=quantity").status_code == 400


def test_the_list_sorts_and_filters_by_chance_and_marks_what_claims_more(demo, sign_in):
    client, known = sign_in("a1"), told_deals()
    answer = client.get("/deals/table.json?cols=category,close,chance&sort=-chance").json()["rows"]
    chances = [row[-1] for row in answer if row[-1] != ""]
    assert chances == sorted(chances, reverse=True)
    assert max(chances) == round(max(row["chance"] or 0 for row in known.values()) * 100)
    few = client.get("/deals/table.json?cols=chance&f=chance:from:50").json()["rows"]
    assert len(few) == sum((row["chance"] or 0) >= 0.5 for row in known.values())
    page = text(client.get("/deals/?cols=category,close,chance"))
    assert "though" in page
    board = client.get("/deals/?view=lanes&within=period").context["lanes"]
    cards = [card for lane in board for card in lane.cards]
    assert any(card.claimed for card in cards)
    for card in cards:
        assert card.chance == pytest.approx(known[card.row.key]["chance"])
        assert (card.row.category_name == "commit" and card.chance < 0.5) <= (card.claimed == "though commit")
    deal = client.get(f"/deals/{cards[0].row.key}/")
    assert deal.context["chance"].chance == pytest.approx(cards[0].chance)
    assert str(deal.context["chance_words"]) in deal.content.decode()


def test_what_if_supposes_the_outlook_too(demo, sign_in):
    client = sign_in("m1")
    deal = client.get("/forecast/outlook/").context["deals"][0]
    client.post("/forecast/what-if/", {"what": "try", f"outcome:{deal.row.key}": "won"})
    compared = {row.words: row for row in client.get("/forecast/what-if/").context["compared"]}
    gain = compared["outlook"].would_be - compared["outlook"].is_now
    assert gain == pytest.approx(deal.row.amount_minor - deal.stake.adds_minor, abs=2)
    assert compared["chance of quota"].would_be > compared["chance of quota"].is_now


def test_submitted_and_outlook_are_weighed_as_the_past_teaches(demo, sign_in):
    page = sign_in("m1").get("/forecast/submitted/")
    weighing, rows = page.context["weighing"], page.context["rows"]
    assert weighing.pairs > 50
    assert 0 < weighing.weight < 1
    for row in rows:
        if row.weighed_minor is None:
            continue
        rest = weighing.weight * weighing.factor * (row.row.call - row.row.won)
        rest += (1 - weighing.weight) * (row.outlook_minor - row.row.won)
        assert row.weighed_minor == row.row.won + round(rest)
        panel = sign_in("m1").get(f"/forecast/working/outlook_weighed/?node={row.node}").context["panel"]
        assert cents(panel.total.replace("\xa0", "").replace("−", "-")) == row.weighed_minor
    assert rows[0].weighed_minor is not None


def test_accuracy_and_the_check_show_the_back_test(demo, sign_in, capsys):
    call_command("backtest", "--as-of", DAY, "--kind", "quarter", "--windows", "8", "--format", "json")
    known = json.loads(capsys.readouterr().out)
    page = sign_in("a1").get("/forecast/accuracy/")
    shown = {row.words: row for row in page.context["tested"].methods}
    assert shown["outlook"].score.error == pytest.approx(known["scores"]["all"]["outlook"]["error"])
    assert shown["outlook"].errors[2] == pytest.approx(known["scores"]["after two thirds"]["outlook"]["error"])
    assert shown["submitted"].score.coverage is None
    assert "the outlook came closest" in text(page)
    sheet = sign_in("a1").get("/forecast/accuracy/table.json?table=back-test").json()["rows"]
    assert len(sheet) == len(known["windows"]) == 24
    # Of the page's own deals: the process that it shows, and for a rep those of the rep alone.
    deals = {}
    for who in ("a1", "r01"):
        page = sign_in(who, apart=True).get("/conversion/probability-check/?backtest=yes").context
        line = page["line"]
        test = rolling_test(line.book, line.snapshot, past_periods(line.book, line.as_of, "quarter", 8), line.scope)
        assert [one.bins[2] for one in page["tenths"]] == [
            bins[2] for bins in zip(*(test.reliability(way) for way in OF_DEALS), strict=True) if any(bins)
        ]
        deals[who] = sum(one.bins[2].deals for one in page["tenths"] if one.bins[2])
    assert 0 < deals["r01"] < deals["a1"]


def test_ranges_of_each_rep_are_for_few_reps_at_once(demo, sign_in, monkeypatch):
    client, team = sign_in("a1"), Team.objects.filter(manager__isnull=False).first().key
    assert "Error and bias by rep" in text(client.get("/forecast/accuracy/"))
    monkeypatch.setattr("wise_tally.pages.forecast.back_test.MOST_PEOPLE", 3)
    assert "Error and bias by rep" not in text(client.get("/forecast/accuracy/"))
    assert "Error and bias by rep" in text(client.get(f"/forecast/accuracy/?who=team:{team}"))


def test_before_there_is_a_past_weighted_leads_and_the_page_says_why(demo, sign_in):
    client = sign_in("m1")
    page = client.get("/forecast/outlook/?as_of=2023-12-20&period=FY2024-Q3&chances=outlook")
    assert "an outlook needs 20" in text(page)
    assert page.context["page_query"].way == "set"
    assert "the outlook" not in [link.words for link in page.context["ways"]]
    over = client.get("/forecast/outlook/?period=FY2027-Q2")
    assert "The quarter ended with" in text(over)
