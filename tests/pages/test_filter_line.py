"""The filter line: one sentence that every page obeys, that survives moving between places and lives in the URL."""

import re
from html import unescape

import pytest

from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.domain import formats as filters
from wise_tally.domain.org.models import Person
from wise_tally.web import filter_line, picking

pytestmark = pytest.mark.django_db
SCOPE = "period=FY2027-Q2&who=team%3Anorth&where=headwaters&process=new_site&as_of=2026-10-05"


def links(page, place):
    """Addresses of a place on a page."""
    return re.findall(rf'href="(/{place}/\?[^"]*)"', page)


def test_the_scope_survives_moving_between_places(demo, sign_in):
    client = sign_in("m1")
    for place in ("forecast", "deals", "conversion", "attainment", "team"):
        page = client.get(f"/{place}/?{SCOPE}").content.decode()
        for other in ("forecast", "deals", "conversion", "attainment", "team", "setup"):
            found = links(page, other)[0].replace("&amp;", "&")
            assert set(SCOPE.split("&")) <= set(found.split("?")[1].split("&")), (place, other)
        for words in ("North region", "Headwaters", "New site", "5 Oct 2026", "Editing is off"):
            assert words in page, (place, words)


def test_previous_and_next_period_and_the_pickers_keep_the_rest(demo, sign_in):
    page = sign_in("m1").get(f"/forecast/?{SCOPE}").content.decode()
    before, after = (re.search(rf'href="\?([^"]+)" data-period-{side}', page)[1] for side in ("before", "after"))
    assert ("period=FY2027-Q1" in before, "period=FY2027-Q3" in after) == (True, True)
    assert all("who=team%3Anorth" in query and "as_of=2026-10-05" in query for query in (before, after))
    other = next(query for query in re.findall(r'href="\?([^"]+)"', page) if "where=lakeland" in query)
    assert "process=new_site" in other


@pytest.mark.parametrize(
    ("address", "kept"),
    [
        ("/team/?board=process", "board=process"),
        ("/team/report/?show=created&by=source&bucket=month", "show=created&by=source&bucket=month"),
        ("/conversion/?by=source&leave_out=ns_survey", "by=source&leave_out=ns_survey"),
        ("/deals/?f=gap:from:1&f=owner:is:Odran+Tully&page=2", "f=gap%3Afrom%3A1&f=owner%3Ais%3AOdran+Tully"),
    ],
)
def test_a_pages_own_choices_outlive_a_change_of_scope(demo, sign_in, address, kept):
    """The next period, another territory and an earlier day keep them; the page of a list and stages of a process go."""
    client = sign_in("m1")
    page = client.get(address).content.decode().replace("&amp;", "&")
    found = re.findall(r'href="\?([^"]+)"', page)
    # The list of deals holds every period and so has no next one.
    after = (
        re.search(r'href="\?([^"]+)" data-period-after', page)
        or re.search(r'href="\?([^"]*where=lakeland[^"]*)"', page)
    )[1]
    where = next(query for query in found if "where=lakeland" in query)
    process = next(query for query in found if "process=renewal" in query)
    assert after.endswith(kept)
    assert where.endswith(kept)
    assert "page=2" not in after
    assert "leave_out" not in process
    for query in (after, where, process):
        assert client.get(f"{address.split('?')[0]}?{query}").status_code == 200


def test_figures_of_a_narrow_scope_are_those_of_the_command(demo, sign_in):
    client = sign_in("m1")
    scope = {"team": "north", "territory": "headwaters", "process": "new_site"}
    row = ask("forecast", "FY2027-Q2", "2026-10-05", **scope)[""]
    page = client.get(f"/forecast/?{SCOPE}").content.decode()
    assert filters.short(cents(row["weighted"])) in page
    assert "Quotas are not set per process" in page, "the page says why quota and gap are none"
    panel = client.get(f"/forecast/working/weighted/?{SCOPE}&node=team:north").content.decode()
    assert filters.money(cents(row["weighted"])) in panel


def test_an_earlier_day_lets_go_of_a_later_day_it_was_compared_with(demo, sign_in):
    """Chosen from the filter line; a comparison that still fits stays."""
    client = sign_in("m1")
    html = unescape(client.get("/forecast/changed/?from=2026-10-01&measure=won").content.decode())
    before_the_period = re.search(r'href="(\?[^"]*as_of=2026-09-30[^"]*)"', html)[1]
    week_ago = re.search(r'href="(\?[^"]*as_of=2026-11-16[^"]*)"', html)[1]
    assert "from=" not in before_the_period
    assert "from=2026-10-01" in week_ago
    assert client.get("/forecast/changed/" + before_the_period).status_code == 200


def test_a_picker_finds_people_territories_and_periods_of_any_year_by_name(demo, sign_in):
    """As links to the same page; what the viewer may not see is not found; a picker of many people lists teams alone."""
    client = sign_in("m1")

    def found(part, text, who=client):
        page = who.get(f"/pick/{part}/?{SCOPE}&by=source&q={text}").content.decode()
        return {
            unescape(label): unescape(query) for query, label in re.findall(r'<a href="\?([^"]*)">([^<]+)</a>', page)
        }

    assert list(found("who", "mer jo")) == ["Joss Merrow"]
    assert {"who=person%3Ar08", "by=source", "period=FY2027-Q2"} <= set(
        found("who", "merrow")["Joss Merrow"].split("&")
    )
    assert "q=" not in found("who", "merrow")["Joss Merrow"]
    assert "period=FY2026-M07" in found("period", "october 2025")["October 2025"]
    assert list(found("period", "q3 fy2026")) == ["Q3 FY2026"]
    assert list(found("where", "coast ea")) == ["East Coast"]
    assert found("who", "nobody at all") == {}
    assert len(found("period", "")) == picking.MOST_MATCHES
    assert list(found("who", "joss", who=sign_in("m2", apart=True))) == []
    assert client.get("/pick/process/?q=x").status_code == 404


def test_a_picker_of_many_lists_the_upper_levels_and_what_is_around_the_chosen(demo, sign_in, monkeypatch):
    client = sign_in("m1")

    def listed(query=""):
        line = client.get(f"/forecast/{query}").context["line"]
        return [one.label for one in line.listed_who], [one.label for one in line.listed_where]

    every_who, every_where = listed()
    assert {"Joss Merrow", "Iva Marrin"} <= set(every_who)
    assert "East Coast" in every_where
    monkeypatch.setattr(filter_line, "MOST_LISTED", 6)
    who, where = listed()
    assert "Joss Merrow" not in who
    assert len(who) <= 6
    assert len(where) <= 6
    who, where = listed("?who=team:rivers&where=coastal")
    assert "Joss Merrow" in who, "what is below the chosen"
    assert "Iva Marrin" not in who
    assert "East Coast" in where
    who, _ = listed("?who=person:r08")
    assert {"Joss Merrow", "Rivers team"} <= set(who), "what the chosen is in"
    assert "Iva Marrin" not in who
    assert "Type a name above" in client.get("/forecast/").text


def test_names_are_suggested_of_what_the_reader_sees(demo, sign_in):
    def named(who, kind, text=""):
        answer = sign_in(who, apart=True).get(f"/names/{kind}/?q={text}")
        return re.findall('value="([^"]*)"', answer.text)

    assert named("r08", "people") == ["Joss Merrow"]
    assert {"Joss Merrow", "Iva Marrin"} <= set(named("m1", "people"))
    assert named("r08", "colleagues", "marrin iv") == ["Iva Marrin"]
    assert "Rivers team" in named("m1", "owners", "rivers")
    assert named("m1", "territories", "coast ea") == ["East Coast"]
    assert set(named("r01", "accounts", "orrin")) < set(named("m1", "accounts", "orrin"))
    Person.objects.create(key="twin", name="Iva Marrin", role="rep")
    assert named("m1", "colleagues", "iva m") == ["Iva Marrin (r01)", "Iva Marrin (twin)"]
    assert sign_in("m1").get("/names/secrets/").status_code == 404
