"""Pictures: what the browser draws is what the table beside it says, and axes have round marks in one unit."""

import json
import re
from itertools import accumulate

import numpy as np
import pytest

from tests.support.answers import text
from wise_tally.domain.formats import short
from wise_tally.web.charts import marks_of, money_marks, rate_marks


def charts(client, address):
    """The pictures of a page as the script reads them, by key."""
    html = client.get(address).content.decode()
    found = re.findall(r'<script id="([\w-]+)" type="application/json">(.*?)</script>', html, re.DOTALL)
    return {key: json.loads(data) for key, data in found}, html


@pytest.mark.parametrize(
    ("largest", "words"),
    [
        (173_000_000, ["0", "0.5 m", "1.0 m", "1.5 m", "2.0 m"]),
        (800_000_000, ["0", "2 m", "4 m", "6 m", "8 m"]),
        (9_900, ["0", "20", "40", "60", "80", "100"]),
        (2_600_000, ["0", "10 k", "20 k", "30 k"]),
    ],
)
def test_an_axis_of_money_has_round_marks_in_one_unit(largest, words):
    assert [text.replace("\u00a0", " ") for _, text in money_marks(largest)] == words


def test_axes_begin_at_nought_and_reach_the_largest_value():
    for shape, largest in (("money", 1), ("count", 58), ("percent", 0.234), ("days", 265.4)):
        marks = [value for value, _ in marks_of(shape, largest)]
        assert marks[0] == 0
        assert marks[-1] >= largest > marks[-2]
    assert [text.replace("\u00a0", " ") for _, text in rate_marks(0.23)][-1] == "25 %"
    assert next(words for _, words in money_marks(190_000_000, 110_000_000)) == "1.2\u00a0m", "between two amounts"
    assert len(money_marks(93_000_001, 93_000_000)) <= 2, "two amounts close together need no marks between 0 and them"


@pytest.mark.parametrize(
    ("address", "keys"),
    [
        ("/forecast/trend/", {"trend"}),
        ("/forecast/outlook/", {"outcome"}),
        ("/conversion/monthly-trend/", {"month-created", "month-win_rate", "month-mean_won", "month-days_to_win"}),
        ("/attainment/year-progress/", {"year"}),
        ("/attainment/cash/", {"cash"}),
        ("/forecast/accuracy/", {"accuracy"}),
        ("/conversion/probability-check/", {"calibration"}),
        ("/customers/account/ac001/", {"sales"}),
        ("/team/", {"picture-day-by-day", "picture-created-by-month"}),
    ],
)
def test_a_picture_has_a_point_for_each_value_and_each_says_what_it_shows(demo, sign_in, address, keys):
    client = sign_in("m1")
    found, html = charts(client, address)
    assert set(found) == keys
    for key, chart in found.items():
        number = len(chart["points"])
        assert all(len(layer["values"]) == number for layer in chart["layers"]), key
        assert len(chart["places"]) == number
        assert all(point["title"] and point["rows"] for point in chart["points"]), key
        assert f'data-chart="{key}"' in html
        highest = max(value for value, _ in chart["y"])
        assert all(value <= highest for layer in chart["layers"] for value in layer["values"] if value is not None), key
        opened = next(point["href"] for point in reversed(chart["points"]) if point["href"])
        assert client.get(opened).status_code == 200


def test_a_dashboard_draws_the_period_as_its_own_page_does(demo, sign_in):
    """Every layer and point alike; its table lists every seventh day back from the last."""
    client = sign_in("m1")
    there = charts(client, "/forecast/trend/?who=team:rivers")[0]["trend"]
    page = client.get("/team/?who=team:rivers")
    here = charts(client, "/team/?who=team:rivers")[0]["picture-day-by-day"]
    assert (here["layers"], here["points"]) == (there["layers"], there["points"])
    weeks = next(tile for tile in page.context["tiles"] if tile.key == "day-by-day").drawn["trend"].weeks
    assert {one.day % 7 for one in weeks} == {page.context["line"].as_of.toordinal() % 7}
    assert len(weeks) == -(-len([one for one in here["points"] if one["href"]]) // 7)


def test_the_trend_ends_in_the_range_of_the_outcome(demo, sign_in):
    """The last points of the trend are the P10, P50 and P90 that the outcome range tells, from figures of their own."""
    client = sign_in("m1")
    chart = charts(client, "/forecast/trend/")[0]["trend"]
    ends = client.get("/forecast/outlook/").context["ends"]
    low, middle, high = (
        next(one for one in chart["layers"] if name in one["label"]) for name in ("1 in", "middle", "9 in")
    )
    assert (low["values"][-1], middle["values"][-1], high["values"][-1]) == ends
    now = next(place for place, value in enumerate(middle["values"]) if value is not None)
    assert chart["layers"][0]["values"][now] == middle["values"][now], "it begins where won stands"


def test_steps_of_a_change_stand_on_an_axis_that_may_be_broken(demo, sign_in):
    """Where all happens far above nought the axis begins below the lowest step, and the page says so; else at nought."""
    client = sign_in("m1")
    page = client.get("/forecast/changed/")
    begin, bars = page.context["axis_start"], page.context["bars"]
    assert 0 < begin < min(bars[0].amount_minor, bars[-1].amount_minor)
    assert f"the axis begins at {short(begin)}" in text(page)
    ends = [float(bar.left[:-1]) + float(bar.width[:-1]) for bar in bars]
    assert max(ends) == pytest.approx(100, abs=0.2)
    assert ends[0] == pytest.approx(100 * (bars[0].amount_minor - begin) / (max(_levels(bars)) - begin), abs=0.2)
    unbroken = client.get("/forecast/changed/?measure=won&from=2026-10-02")
    assert unbroken.context["axis_start"] == 0
    assert "the axis begins at" not in text(unbroken)


def test_the_cash_of_the_months_is_that_of_the_headlines_and_booked_ends_with_today(demo, sign_in):
    client = sign_in("m1")
    chart, context = charts(client, "/attainment/cash/")[0]["cash"], client.get("/attainment/cash/").context
    won, due, booked = (layer["values"] for layer in chart["layers"])
    assert (sum(won), sum(due) - sum(won)) == (context["won"], context["open"])
    assert [value is None for value in booked] == [month > 7 for month in range(12)], "April to November have begun"
    assert chart["marks"][0]["at"] == pytest.approx(6.5 + 23 / 30), "23 November, of columns that reach half a step out"


def test_submitted_and_won_of_a_period_are_of_the_same_reps(demo, sign_in):
    """Each period's sums are those of the reps' own records in the file of the page."""
    client = sign_in("m1")
    chart = charts(client, "/forecast/accuracy/")[0]["accuracy"]
    sums = {}
    for _, period, *_, called, won in json.loads(client.get("/forecast/accuracy/table.json").content)["rows"]:
        if called:
            before = sums.get(period, (0, 0))
            sums[period] = (before[0] + round(float(won) * 100), before[1] + round(float(called) * 100))
    shown = list(zip(*(layer["values"] for layer in chart["layers"]), strict=True))
    assert sorted(shown) == sorted(sums.values())
    assert client.get("/forecast/accuracy/").context["whole"][0][1].submitted == shown[-1][1]


def test_the_shape_of_time_in_stage_begins_at_nought_and_holds_the_median(demo, sign_in):
    client = sign_in("m1")
    group = client.get("/conversion/time/").context["groups"][0]
    for row in group.rows:
        curve, longest = row.time.curve, float(group.axis[-1][1])
        parts = len(row.shape)
        before = curve.leaving(np.linspace(0, longest, parts + 1))[: int(row.time.km_median / longest * parts)].sum()
        assert before <= 0.5 <= before + curve.leaving(np.linspace(0, longest, parts + 1)).max()
        assert 0 < max(row.shape) <= 1
    assert max(max(row.shape) for row in group.rows) == 1
    assert not client.get("/conversion/time/?by=person").context["groups"][0].rows[0].shape, "many rows, thin strips"


def test_the_stages_of_a_deal_stand_as_long_as_they_lasted(demo, sign_in):
    """Bands end where the next begins; the last ends today, before the expected close; what is too long is ochre."""
    client = sign_in("m1")
    found, _ = charts(client, "/deals/d9001/")
    chart, stays = found["stages"], client.get("/deals/d9001/").context["stays"]
    bands = [layer for layer in chart["layers"] if layer["css"].startswith("stay")]
    for layer, stay in zip(bands, stays, strict=True):
        held = [place for place, value in zip(chart["places"], layer["values"], strict=True) if value]
        assert held[-1] - held[0] == pytest.approx(stay.days, abs=0.002)
    assert sum(bool(stay.over) for stay in stays) == sum(layer["css"] == "over" for layer in chart["layers"]) > 0
    assert [mark["words"] for mark in chart["marks"]][-2:] == ["today", "expected close"]
    assert found["amounts"]["layers"][0]["values"][0] == 31_000_000
    assert found["amounts"]["layers"][0]["values"][-1] == 42_000_000
    assert "closes" not in found, "its expected close never moved"


def _levels(bars):
    """The sum after each bar of a change."""
    return [bars[0].amount_minor, *accumulate((bar.amount_minor for bar in bars[1:-1]), initial=bars[0].amount_minor)]


def test_the_parts_stand_on_one_page_of_the_demo_alone(demo, sign_in, settings):
    client = sign_in("m1")
    settings.DEMO = False
    assert client.get("/parts/").status_code == 404
    settings.DEMO = True
    page = client.get("/parts/")
    for part in page.context["parts"]:
        assert part.source.startswith("{% ")
        assert "Takes" in part.source, part.template
    assert 'data-chart="example"' in text(page)


def test_a_month_of_the_list_opens_just_its_deals(demo, sign_in):
    """Number and sums of each month are those of the list that it opens; together they are the dated ones of the list."""
    client = sign_in("m1")
    either = client.get("/deals/?f=owner:is:Odran+Tully&f=gap:from:1&join=any").context["closing_months"]
    months = client.get("/deals/").context["closing_months"]
    assert len(months) >= 6
    for month in (one for one in (*either, *months) if one.totals.deals):
        listed = client.get(f"/deals/?{month.query}").context["list"]
        assert (listed.total, listed.amount_minor) == (month.totals.deals, month.totals.amount_minor)
        assert listed.weighted_minor == month.totals.weighted_minor
    assert "chart" not in client.get("/deals/?edit=yes").context, "the list that is edited stands alone"
    dated = client.get("/deals/?f=close:filled:").context["list"]
    assert sum(one.totals.deals for one in months) == dated.total
    assert not client.get(f"/deals/?{months[0].query}").context["chart"], "one month alone needs no picture"


def test_the_stages_of_a_bar_of_losses_add_up_to_it(demo, sign_in):
    """Stretches against the bar's length, and their money against the table by stage."""
    client = sign_in("m1")
    rows = client.get("/conversion/loss-reasons/").context["rows"]
    for _, _, (width, _, parts), *_ in rows:
        assert sum(float(part.width[:-1]) for part in parts) == pytest.approx(float(width[:-1]), abs=0.05)
    crossed = client.get("/conversion/loss-reasons/?by=stage&measure=value").context["crossed"]
    by_stage = {
        (stage, reason): cell[1]
        for stage, cells in crossed.rows
        for reason, cell in zip(crossed.reasons, cells, strict=True)
    }
    shown = {(part.words.split(":")[0], name): part.words for name, _, (_, _, parts), *_ in rows for part in parts}
    assert len(shown) > 10
    for (stage, reason), words in shown.items():
        assert short(by_stage[stage, reason]) in words
