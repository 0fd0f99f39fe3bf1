"""The place Attainment: figures equal the command and the core, workings end in them, bad input is answered in words."""

import csv
import io
import re
from datetime import UTC, date, datetime
from fractions import Fraction
from itertools import pairwise

import pytest

from tests.support.naive import cents, half_even
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.attainment import four_quarters_before
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.domain import formats as filters
from wise_tally.domain.deals.models import Activity, DealCredit, DealLine
from wise_tally.domain.org.models import Person
from wise_tally.domain.targets.models import Quota
from wise_tally.pages.attainment.period_comparison import Cell

pytestmark = pytest.mark.django_db
AS_OF, QUARTER = "2026-11-23", "FY2027-Q3"


def rows_of(client, query):
    return {row.name: row for row in client.get(f"/attainment/?{query}").context["rows"]}


def total_of(client, address):
    """The last line of a working as plain text."""
    found = re.findall(r'class="total">.*?</tr>', client.get(address).content.decode(), re.DOTALL)
    return re.sub(r"<[^>]+>|\s", "", found[-1]).replace("\u00a0", "")


def written(minor):
    """Money as a working writes it, without the thin spaces."""
    return filters.money(minor).replace("\u00a0", "")


@pytest.mark.parametrize("by", ["team", "person", "territory", "partner", "source"])
def test_the_page_says_what_the_command_says(demo, sign_in, by):
    """Won, quota, pace, gap and open of every row, and the file of the page; partners against the quotas of partners."""
    client = sign_in("m1")
    shown = rows_of(client, f"by={by}&period={QUARTER}")
    table = csv.DictReader(io.StringIO(client.get(f"/attainment/table.csv?by={by}&period={QUARTER}").content.decode()))
    filed = {row["name"]: row for row in table}
    assert set(filed) == set(shown)
    if by == "partner":
        month = Quota.objects.filter(subject="partner", subject_key="p1", starts_on=date(2026, 10, 1)).get()
        row = shown["Tarn & Weir Supplies"]
        assert row.record.forecast.quota == 3 * month.value
        assert row.record.pace == month.value + half_even(Fraction(month.value * 23, 30))
        return
    told = ask("attainment", QUARTER, AS_OF, by=by)
    told.pop("scope")
    for row in told.values():
        name = row["name"] or f"without a {by}"
        if name not in shown:
            assert by in ("person", "source")
            assert not cents(row["won"])
            continue
        figures = shown[name].record.forecast
        for figure, value in (
            ("won", figures.won),
            ("quota", figures.quota),
            ("gap", figures.gap),
            ("open", figures.open),
        ):
            assert (None if row[figure] is None else cents(row[figure])) == value, (name, figure)
            assert filed[name][figure] == (row[figure] or "")
        assert row["attainment_to_date"] == shown[name].record.to_date


def test_what_is_needed_opens_its_working(demo, sign_in):
    """Needed a week, at today's pace and deals needed of a rep, worked by hand from the command's figures."""
    client = sign_in("m1")
    row = rows_of(client, f"by=person&period={QUARTER}")["Joss Merrow"]
    told = ask("attainment", QUARTER, AS_OF, by="person")["r08"]
    gap, won = cents(told["gap"]), cents(told["won"])
    # Of the quarter's 92 days 54 are over on 23 November.
    assert row.needed_per_week == half_even(Fraction(gap * 7, 38))
    assert row.at_pace == half_even(Fraction(won * 92, 54))
    span = four_quarters_before(books.current().reference.fiscal, date(2026, 11, 23))
    assert (span.starts_on, span.ends_on) == (date(2025, 10, 1), date(2026, 9, 30))
    past = ask("forecast", span.text, AS_OF, by="person")["r08"]
    book = books.current()
    rows = forecast(book, book.as_of(date(2026, 11, 23)), span, Filter(), "person")
    closed = next(row for row in rows if row.key == "r08")
    number = past["deals_won"] + closed.deals_lost
    exact = Fraction(gap * number, cents(past["won"]))
    assert row.deals_needed == -(-exact.numerator // exact.denominator)
    query = f"by=person&period={QUARTER}&node=person:r08"
    for figure, value in (("needed", row.needed_per_week), ("at_pace", row.at_pace)):
        assert written(value) in total_of(client, f"/attainment/working/{figure}/?{query}")
    assert str(row.deals_needed) in total_of(client, f"/attainment/working/deals_needed/?{query}")


def test_numbers_margin_and_quantity_have_their_own_targets(demo, sign_in):
    """Won deals against targets of deals, margin against margin; quantity is what the lines of won deals sell."""
    client = sign_in("m1")
    deals = rows_of(client, f"by=person&measure=deals&period={QUARTER}")["Joss Merrow"].record.forecast
    told = ask("forecast", QUARTER, AS_OF, by="person")["r08"]
    month = Quota.objects.filter(metric="won_deals", subject_key="r08", starts_on=date(2026, 10, 1)).get()
    assert (deals.won, deals.quota) == (told["deals_won"] * 100, month.value * 3)
    margin = rows_of(client, f"by=person&measure=margin&period={QUARTER}")["Joss Merrow"].record.forecast
    assert (
        margin.quota
        == 3 * Quota.objects.filter(metric="margin", subject_key="r08", starts_on=date(2026, 10, 1)).get().value
    )
    groups = rows_of(client, f"by=product_group&measure=quantity&period={QUARTER}")
    whole = client.get(f"/attainment/?by=product_group&measure=quantity&period={QUARTER}").context["whole"].forecast
    book = books.current()
    snapshot = book.as_of(date(2026, 11, 23))
    first, last = date(2026, 10, 1).toordinal(), date(2026, 12, 31).toordinal()
    keys = {
        book.deals.key[int(deal)]
        for deal, kind, day in zip(snapshot.deal, snapshot.kind, snapshot.closed_on, strict=True)
        if kind == 1 and first <= day <= last
    }
    lines = DealLine.objects.filter(deal__key__in=keys).values_list("product__product_group", "quantity_10000ths")
    sold = {}
    for group, quantity in lines:
        sold[group] = sold.get(group, 0) + quantity
    assert {name: row.record.forecast.won * 100 for name, row in groups.items() if row.record.forecast.won} == sold
    assert whole.won * 100 == sum(sold.values())


def test_activities_belong_to_the_day_in_the_workspace_and_to_people(demo, sign_in):
    """A call at 23:30 UTC in summer is the next day in Dublin; planned ones and the customer's own visits do not count."""
    client, person = sign_in("m1"), Person.objects.get(key="r08")
    query = "by=person&measure=activities&kind=phone&period=2026-07-01/2026-07-01"

    def done(asked=query):
        row = rows_of(client, asked).get("Joss Merrow")
        return row.record.forecast.won if row else 0

    before = done()
    for number, (at, status, kind) in enumerate(
        (
            (datetime(2026, 6, 30, 23, 30, tzinfo=UTC), "done", "phone"),
            (datetime(2026, 7, 1, 23, 30, tzinfo=UTC), "done", "phone"),
            (datetime(2026, 7, 1, 12, tzinfo=UTC), "planned", "phone"),
            (datetime(2026, 7, 1, 12, tzinfo=UTC), "", "web_visit"),
        )
    ):
        Activity.objects.create(key=f"t{number}", kind=kind, at=at, status=status, person=person)
    assert done() == before + 100
    assert done(query.replace("&kind=phone", "")) >= before + 100
    assert done(query.replace("kind=phone", "kind=web_visit")) == 100
    shown = client.get(f"/attainment/?{query}&where=lakeland").content.decode()
    assert "process and territory filters do not apply" in shown


def test_periods_are_compared_in_the_order_of_the_tree(demo, sign_in):
    rows = sign_in("m1").get("/attainment/period-comparison/?by=team").context["rows"]
    assert [(row.name, row.depth) for row in rows[:3]] == [("North region", 0), ("Fells team", 1), ("Lakes team", 1)]
    assert Cell("lost_share", "percent", 0.7931, 0.7939).sign == "", "what shows as zero has no arrow"


def test_against_before_cuts_at_the_same_day(demo, sign_in):
    """This quarter to 23 November against the quarter before to 23 August, and the year before; each cell opens that span."""
    client = sign_in("m1")
    for against, then in (("before", "2026-07-01/2026-08-23"), ("year", "2025-10-01/2025-11-23")):
        page = client.get(f"/attainment/period-comparison/?by=person&against={against}").context
        told = {span: ask("forecast", span, AS_OF, by="person") for span in ("2026-10-01/2026-11-23", then)}
        for row in page["rows"]:
            key = Person.objects.get(name=row.name).key
            won, deals = row.cells[0], row.cells[1]
            assert [won.now, won.then] == [cents(told[span][key]["won"]) for span in told]
            assert [deals.now, deals.then] == [told[span][key]["deals_won"] for span in told]
            lost, share = row.cells[2], row.cells[3]
            closed = (deals.now or 0) + (lost.now or 0)
            assert share.now == (lost.now / closed if closed else None)
        first = page["rows"][0]
        total = total_of(client, f"/forecast/working/won/?{first.working_then}")
        assert written(first.cells[0].then) in total
        assert page["whole"].cells[0].now == sum(row.cells[0].now for row in page["rows"])


def test_the_year_adds_up_month_by_month(demo, sign_in):
    """The last month is the whole year's won and quota; open stands on top from the present month on."""
    client = sign_in("m1")
    for measure in ("amount", "deals", "margin"):
        shown = client.get(f"/attainment/year-progress/?measure={measure}").context["cumulative"]
        assert [month.sums.open is None for month in shown.months] == [True] * 7 + [False] * 5
        assert all(a.sums.won <= b.sums.won for a, b in pairwise(shown.months))
    told = ask("forecast", "FY2027", AS_OF)[""]
    shown = client.get("/attainment/year-progress/").context["cumulative"]
    assert (shown.won, shown.target, shown.open) == tuple(cents(told[name]) for name in ("won", "quota", "open"))


def test_commissions_of_a_split_deal_go_to_both(demo, sign_in):
    """Each earns on the own part; the sums of the page are those of the statements; a rep sees the own alone."""
    boss = sign_in("m1", apart=True)
    page = boss.get("/attainment/commissions/?period=FY2027").context
    lines = page["page_query"].lines
    split = DealCredit.objects.values_list("deal__key", flat=True)
    book = books.current()
    shared = [line for line in lines if book.deals.key[line.deal] in set(split)]
    assert shared
    whole = 0
    for key, _, one, _ in page["rows"]:
        statement = boss.get(f"/attainment/commissions/of/{key}/?period=FY2027").context["whole"]
        assert (statement.credited_minor, statement.commission_minor) == (one.credited_minor, one.commission_minor)
        whole += one.commission_minor
    assert page["whole"].commission_minor == whole
    assert page["whole"].credited_minor == cents(ask("forecast", "FY2027", AS_OF)[""]["won"])
    mine = sign_in("r08", apart=True).get("/attainment/commissions/?period=FY2027").context["rows"]
    assert [key for key, *_ in mine] == ["r08"]
    sheet = boss.get("/attainment/commissions/table.csv?period=FY2027&whose=r08").content.decode()
    assert sum(cents(row["commission"]) for row in csv.DictReader(io.StringIO(sheet))) == mine[0][2].commission_minor


BAD = (
    "/attainment/?by=moon",
    "/attainment/?measure=weight",
    "/attainment/?measure=activities&kind=smoke",
    "/attainment/?period=FY20",
    "/attainment/working/nothing/",
    "/attainment/working/needed/?node=person:nobody",
    "/attainment/working/won/?node=company:",
    "/attainment/period-comparison/?against=never",
    "/attainment/commissions/?of=dog",
    "/attainment/commissions/of/nobody/",
    "/attainment/commissions/working/sum/",
    "/attainment/commissions/working/commission/?whose=nobody",
    "/attainment/commissions/working/commission/?whose=r08&deal=d9001&on=x",
    "/attainment/cash/working/lost/",
    "/attainment/cash/working/won/?month=FY1999-M01",
    "/attainment/cash/working/won/?kind=gold",
    "/attainment/cash/working/won/?account=none",
    "/team/?board=none",
    "/team/report/?show=moods",
    "/team/report/?bucket=decade",
    "/team/report/working/?show=won",
    "/team/report/working/?show=created&by=person&row=nobody",
    "/team/deals-by-rep/?show=closed",
    "/team/deals-by-rep/?along=mood",
    "/team/contact-gaps/?rep=r08&part=00009",
    "/setup/quotas/?year=020261",
    "/team/this-week/working/lost/",
    "/team/one-to-ones/r08/?since=0001-01-01",
    "/team/one-to-ones/r08/?since=2027-01-01",
)


@pytest.mark.parametrize("address", BAD)
def test_bad_input_is_answered_with_what_is_accepted(demo, sign_in, address):
    answer = sign_in("m1").get(address)
    assert answer.status_code in (400, 404)
    assert re.search(r"Choose|Enter|Use|accepted|Select|Go back", answer.content.decode()) or answer.status_code == 404
