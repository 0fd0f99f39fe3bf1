"""Pages: figures equal everywhere, bad input answered with one clear message, cost that does not grow."""

import re
from datetime import date

import pytest
from django.core.management import call_command
from statsmodels.stats.proportion import proportion_confint

from tests.support.naive import cents
from tests.support.random_world import random_world
from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.domain import formats as filters
from wise_tally.domain.deals.models import DealRevision
from wise_tally.domain.targets.models import Quota
from wise_tally.interfaces.figures import OptionRefused

pytestmark = pytest.mark.django_db
AS_OF = "2026-11-23"
ADDRESSES = (
    "/forecast/",
    "/forecast/?by=territory",
    "/deals/",
    "/deals/d9001/",
    "/conversion/",
    "/conversion/?by=source",
    "/conversion/time/",
    "/attainment/",
    "/team/",
    "/setup/",
    "/setup/stages/renewal/",
    "/setup/quotas/",
)


def amounts(text):
    """All exact amounts of a page in cents."""
    found = re.findall(r"[−]?\d[\d\u00a0]*\.\d\d(?!\d|\u00a0)", text)
    return [cents(t.replace("\u00a0", "").replace("−", "-")) for t in found]


def test_command_line_page_and_working_agree_to_the_cent(demo, sign_in):
    client = sign_in("m1")
    rows = ask("forecast", "FY2027-Q3", AS_OF, by="team")
    page = client.get("/forecast/").content.decode()
    for key in ("north", "south", "fells", "coast"):
        for name in ("won", "weighted", "open", "commit_forecast"):
            value = cents(rows[key][name])
            panel = client.get(f"/forecast/working/{name}/?node=team:{key}").content.decode()
            terms = amounts(panel[panel.index('class="sum"') : panel.index("</table>", panel.index('class="sum"'))])
            assert terms[-1] == value, (key, name)
        assert filters.whole(cents(rows[key]["weighted"])) in page
        assert filters.whole(cents(rows[key]["won"])) in page
    table = client.get("/forecast/table.json").json()
    by_name = {row[0]: row for row in table["rows"]}
    assert by_name["North region"][table["columns"].index("weighted")] == rows["north"]["weighted"]


def test_terms_and_deals_of_a_working_add_up(demo):
    """Every figure of every node: terms, counted deals and the figure are one sum."""
    from wise_tally.core.buckets import FIGURES
    from wise_tally.core.forecast import forecast
    from wise_tally.core.working import forecast_working

    book = books.current()
    snapshot, period = book.as_of(date(2026, 11, 23)), book.reference.fiscal.parse("FY2027-Q3")
    for by in ("company", "team", "person", "territory"):
        for row in forecast(book, snapshot, period, Filter(), by):
            for figure in FIGURES:
                found = forecast_working(book, snapshot, period, Filter(), figure, by, row.node)
                assert found.value_minor == getattr(row, figure)
                assert sum(term.value_minor for term in found.terms) == found.value_minor
                assert sum(deal.value_minor for deal in found.counted) == found.value_minor


@pytest.mark.parametrize("seed", range(3))
def test_over_all_periods_every_deal_is_counted_once(seed, tmp_path):
    """won + lost + open of every category, undated included, = all deals, for every scope."""
    random_world(seed).read(tmp_path)
    book = books.current()
    everything = Period(date(1900, 1, 1), date(2199, 12, 31), "span", "all")
    snapshot = book.as_of(date(2025, 6, 30))
    for scope in (Filter(), Filter(process=0), Filter(team=1), Filter(person=2), Filter(territory=0)):
        lines = forecast_lines(book, snapshot, everything, scope, "company")
        figures = ["won", "lost", "undated", *(f"category:{i}" for i in range(4))]
        counted = sum(int(lines.value_minor(figure).sum()) for figure in figures)
        undated_uncounted = lines.buckets.open((3,), (4,))
        rest = sum(int(lines.amount_minor[lines.bucket == bucket].sum()) for bucket in undated_uncounted)
        assert counted + rest == int(lines.amount_minor.sum())


def test_no_page_answers_500_and_each_names_what_is_accepted(demo, sign_in):
    client = sign_in("m1")
    bad = {
        "period": ("FY2026-Q9", "2026-W60", "x" * 300, "2026-02-30/2026-03-01"),
        "as_of": ("2026-13-01", "yesterday", "0001-01-01", "9999-12-31"),
        "who": ("team:nope", "person:", "rubbish", "person:\x00"),
        "where": ("atlantis",),
        "process": ("nope",),
    }
    for address in ADDRESSES[:9]:
        path = address.split("?")[0]
        for name, values in bad.items():
            for value in values:
                answer = client.get(path, {name: value})
                assert answer.status_code in (400, 404), (path, name, value)
                assert re.search(r"Choose|Enter|Use|accepted|Select|Go back", answer.content.decode()), (
                    path,
                    name,
                    value,
                )
    for address in (
        "/forecast/?by=planet",
        "/conversion/?basis=x",
        "/attainment/?by=x",
        "/deals/?sort=x",
        "/deals/?stage=x",
    ):
        answer = client.get(address)
        assert answer.status_code in (400, 404)
        assert re.search(r"Choose|Enter|Use|accepted|Select|Go back", answer.content.decode())
    assert client.get("/deals/no-such-deal/").status_code == 404
    assert client.get("/forecast/working/nonsense/").status_code == 404
    assert client.get("/setup/quotas/?year=12").status_code == 400


@pytest.mark.parametrize(
    ("field", "typed", "says"),
    [
        ("amount", "12a", "only € may be written with the number"),
        ("amount", "-5", "from 0"),
        ("amount", "123456789012", "11 digits"),
        ("expected_close", "2020-01-01", "before the deal was created"),
        ("expected_close", "soon", "is not a date"),
        ("stage", "re_offer", "Choose one of: Enquiry"),
        ("category", "perhaps", "best case"),
    ],
)
def test_bad_input_to_a_deal_keeps_what_was_typed_and_changes_nothing(demo, sign_in, field, typed, says):
    client, before = sign_in("r08"), DealRevision.objects.count()
    good = {
        "stage": "ns_terms",
        "amount": "420000.00",
        "expected_close": "2026-12-22",
        "category": "",
        "reason": "mine",
    }
    last = DealRevision.objects.filter(deal__key="d9001").last().pk
    answer = client.post("/deals/d9001/change/", good | {field: typed, "revision": last, "next": "/forecast/"})
    text = answer.content.decode()
    assert answer.status_code == 422
    assert says in text
    assert "mine" in text
    assert typed in text or field in ("stage", "category")
    assert DealRevision.objects.count() == before


def test_an_old_state_is_refused_with_both_values(demo, sign_in):
    client = sign_in("r08")
    last = DealRevision.objects.filter(deal__key="d9001").last().pk
    typed = {"stage": "ns_terms", "amount": "1.00", "expected_close": "2026-12-22", "category": "", "revision": last}
    assert client.post("/deals/d9001/change/", typed | {"next": "/forecast/?open=x"}).url == "/forecast/?open=x"
    answer = client.post("/deals/d9001/change/", typed | {"amount": "2.00", "next": "//elsewhere.example/"})
    assert answer.status_code == 409
    assert 100 in amounts(answer.content.decode()), "the value now kept is shown beside the typed one"
    assert 'value="2.00"' in answer.content.decode()
    assert "elsewhere" not in answer.content.decode()


def test_quota_cells_are_versions_and_bad_ones_are_refused(demo, sign_in):
    client, before = sign_in("m1"), Quota.objects.count()
    cell = "person:r01:2026-11-01"
    answer = client.post("/setup/quotas/?year=2027", {f"q:{cell}": "-5", f"expected:{cell}": "43200"})
    assert answer.status_code == 422
    assert 'value="-5"' in answer.content.decode()
    assert Quota.objects.count() == before
    good = client.post("/setup/quotas/?year=2027", {f"q:{cell}": "50 000.50", f"expected:{cell}": "43200"})
    assert good.status_code == 302
    assert Quota.objects.count() == before + 1
    stale = client.post("/setup/quotas/?year=2027", {f"q:{cell}": "1", f"expected:{cell}": "43200"})
    assert "Somebody else has changed this to" in stale.content.decode()
    assert ask("forecast", "FY2027-M08", AS_OF, by="person")["r01"]["quota"] == "50000.50"
    assert ask("forecast", "FY2027-M08", "2026-11-20", by="person")["r01"]["quota"] == "43200.00"


def test_the_past_is_shown_as_it_stood_and_cannot_be_edited(demo, sign_in):
    client = sign_in("m1")
    text = client.get("/forecast/?as_of=2026-11-16&open=team:rivers/person:r08").content.decode()
    assert "You are looking at the data as of 16 Nov 2026" in text
    assert 'name="amount"' not in text
    assert 'name="amount"' in client.get("/forecast/?open=team:rivers/person:r08").content.decode()


def test_an_empty_workspace_says_what_is_missing(client, db):
    from django.contrib.auth.models import User

    from wise_tally.domain.org.models import Person

    user = User.objects.create(username="first")
    Person.objects.create(key="first", name="First", role="admin", user=user)
    client.force_login(user)
    for address in ("/forecast/", "/deals/", "/attainment/", "/team/", "/setup/", "/setup/quotas/"):
        assert client.get(address).status_code == 200, address
    assert "a process with stages" in client.get("/setup/").content.decode()
    page = client.get("/conversion/")
    assert page.status_code == 200
    assert "Stage conversion appears here once you have a sales process." in page.content.decode()
    assert "/setup/processes/" in page.content.decode()
    with pytest.raises(OptionRefused, match="none is set up yet"):
        ask("conversion", "2025-01-01/2025-12-31", AS_OF)


def test_queries_do_not_grow_with_the_data(tmp_path, django_assert_max_num_queries, client):
    """The same pages on two sizes take the same number of queries."""
    from django.contrib.auth.models import User
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from wise_tally.domain.org.models import Person

    counts = []
    for size in (20, 200):
        call_command("flush", verbosity=0, interactive=False)
        world = World()
        for number in range(size):
            world.deal(f"d{number}", ("2026-10-01", "s2", number, "2026-12-01"))
        world.read(tmp_path / str(size))
        user = User.objects.create(username="boss")
        Person.objects.create(key="boss", name="Boss", role="admin", user=user)
        client.force_login(user)
        books.forget()
        for address in ("/forecast/?open=team:t1/person:a", "/deals/", "/team/"):
            client.get(address)
            with CaptureQueriesContext(
                connection,
            ) as queries:
                assert client.get(address).status_code == 200
            counts.append((address, len(queries)))
    assert counts[:3] == counts[3:]
    assert max(number for _, number in counts) <= 20


def test_tables_travel_as_csv_xlsx_and_json(demo, sign_in):
    import io

    from openpyxl import load_workbook

    client = sign_in("m1")
    for place in ("forecast", "deals", "conversion", "attainment"):
        rows = client.get(f"/{place}/table.json").json()
        lines = client.get(f"/{place}/table.csv").content.decode().splitlines()
        sheet = load_workbook(io.BytesIO(client.get(f"/{place}/table.xlsx").content)).active
        assert len(lines) - 1 == len(rows["rows"]) == sheet.max_row - 1
        assert client.get(f"/{place}/table.pdf").status_code == 404


def test_conversion_pages_agree_with_the_command(demo, sign_in):
    """Counts, rates and medians on the pages are those of `figures`, in every way of counting."""
    client = sign_in("m1")
    ways = {
        "": {},
        "&basis=decided": {"basis": "decided"},
        "&counting=strict": {"strict": True},
        "&measure=value&decided=only": {"by_value": True, "decided_only": True},
        "&leave_out=ns_plan": {"leave_out": ("ns_plan",)},
    }
    for query, options in ways.items():
        rows = ask("conversion", "FY2026", AS_OF, process="new_site", **options)
        scope = rows.pop("scope")
        table = client.get(f"/conversion/table.json?period=FY2026&process=new_site{query}").json()["rows"]
        assert [row[1:5] for row in table] == [
            [r["reached"], r["value"], r["step"], r["from_start"]] for r in rows.values()
        ]
        page = client.get(f"/conversion/?period=FY2026&process=new_site{query}").content.decode()
        assert filters.percent(scope["win_rate_of_closed"]) in page
        assert filters.percent(scope["win_rate_of_created"]) in page
    rows = ask("conversion", "FY2026", AS_OF, process="new_site")
    panel = client.get("/conversion/working/from_start/?stage=ns_offer&period=FY2026&process=new_site").context["panel"]
    bounds = proportion_confint(rows["ns_offer"]["reached"], rows["ns_enquiry"]["reached"], method="wilson")
    assert panel.terms[-1].value == " to ".join(filters.percent(bound) for bound in bounds)
    # By value both win rates divide the money that their workings show.
    for figure in ("of_created", "of_closed"):
        panel = client.get(f"/conversion/working/{figure}/?period=FY2026&process=new_site&measure=value").context[
            "panel"
        ]
        won, every = (float(re.sub(r"[^\d.]", "", term.value)) for term in panel.terms)
        assert panel.total == filters.percent(won / every)
        assert every > 1_000_000
    # A stage is left out by its link, and put back by the one that then stands there.
    whole = client.get("/conversion/?period=FY2026&process=new_site")
    leave = next(query for name, query, _ in whole.context["stages"] if name == "Station plan")
    less = client.get(f"/conversion/?{leave}")
    assert [row.name for row in less.context["rows"]] == ["Enquiry", "Site survey", "Offer", "Terms", "Won"]
    back = next(query for name, query, is_left in less.context["stages"] if is_left)
    assert [row.key for row in client.get(f"/conversion/?{back}").context["rows"]] == [
        row.key for row in whole.context["rows"]
    ]
    stays = ask("time-in-stage", "FY2026", AS_OF, process="new_site")
    page = client.get("/conversion/time/?period=FY2026&process=new_site").content.decode()
    for stage in ("ns_enquiry", "ns_plan", "ns_offer"):
        assert filters.days(stays[stage]["km_median"]) in page
        panel = client.get(f"/conversion/working/time/?stage={stage}&period=FY2026&process=new_site").content.decode()
        assert filters.days(stays[stage]["mean"]) in panel


def test_the_list_of_deals_filters_sorts_and_pages(demo, sign_in):
    client = sign_in("m1")

    def listed(query):
        found = client.get(f"/deals/?{query}").context
        return found["list"], found["rows"]

    everything, first = listed("status=all")
    assert everything.total > 1_800
    assert everything.page.pages == -(-everything.total // 50)
    _, second = listed("status=all&page=2")
    assert {r.key for r in first}.isdisjoint(r.key for r in second)
    assert [r.amount_minor for r in first] == sorted((r.amount_minor for r in first), reverse=True)
    assert first[-1].amount_minor >= second[0].amount_minor
    _, by_close = listed("sort=close&status=open")
    assert [r.expected_close for r in by_close] == sorted(r.expected_close for r in by_close)
    late, rows = listed("only=overstaying")
    assert late.total
    assert all(r.overstays for r in rows)
    every = [row for number in range(1, everything.page.pages + 1) for row in listed(f"status=all&page={number}")[1]]
    for quick, holds in QUICK_SETS:
        found, rows = listed(f"only={quick}&status=open")
        assert found.total, quick
        assert all(holds(r) for r in rows), quick
        assert sum(holds(row) for row in every) == found.total, quick
    big, rows = listed("only=big")
    assert big.total == -(-listed("")[0].total // 10)
    assert rows[0].key == "d9001"
    found, rows = listed("find=barrage")
    assert (found.total, rows[0].key) == (1, "d9001")
    none, rows = listed("find=%25%27%3Bdrop")
    assert (none.total, rows) == (0, [])
    assert listed("status=all&page=999999")[0].page.number == everything.page.pages, (
        "a page past the end is the last one"
    )


QUICK_SETS = [
    ("closing this month", lambda r: r.is_open and date(2026, 11, 1) <= day_of(r) <= date(2026, 11, 30)),
    ("closing next month", lambda r: r.is_open and date(2026, 12, 1) <= day_of(r) <= date(2026, 12, 31)),
    ("no next step", lambda r: r.is_open and not r.next_step),
    ("slipped twice", lambda r: r.is_open and r.slips >= 2),
]


def day_of(row):
    return date.fromordinal(row.expected_close) if row.expected_close else date.min


def test_attainment_and_team_show_the_same_figures(demo, sign_in):
    client = sign_in("m1")
    rows = ask("attainment", "FY2027", AS_OF, by="person")
    page = client.get("/attainment/?by=person&period=FY2027").content.decode()
    for person in ("r01", "r08", "r12"):
        for name in ("won", "pace", "quota", "gap"):
            assert filters.whole(cents(rows[person][name])) in page, (person, name)
    quarter = ask("attainment", "FY2027-Q3", AS_OF, by="person")
    team = client.get("/team/").content.decode()
    for person in ("r01", "r08", "r12"):
        assert filters.whole(cents(quarter[person]["won"])) in team
        assert filters.percent(quarter[person]["attainment_to_date"], 0) in team
    panel = client.get("/forecast/working/to_date/?node=person:r01&period=FY2027").content.decode()
    assert filters.percent(rows["r01"]["attainment_to_date"]) in panel


def test_a_form_without_the_sessions_mark_changes_nothing_and_says_so(demo):
    from django.contrib.auth.models import User
    from django.test import Client

    client = Client(enforce_csrf_checks=True)
    client.force_login(User.objects.get(username="r08"))
    before = DealRevision.objects.count()
    answer = client.post("/deals/d9001/change/", {"stage": "ns_offer"})
    assert answer.status_code == 403
    assert "load the page again" in answer.content.decode()
    assert DealRevision.objects.count() == before
