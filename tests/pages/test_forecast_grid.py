"""The grid of choice: rows, second level, measure, day, columns, form, folding; and its files."""

import csv
import io

import pytest

from tests.support.naive import cents
from tests.support.plain_plans import dues
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.cash import Plan
from wise_tally.domain.deals.models import Deal, DealLine, Payment
from wise_tally.domain.org.models import Preference
from wise_tally.pages.forecast.columns import usual_columns

pytestmark = pytest.mark.django_db
AS_OF, QUARTER = "2026-11-23", "FY2027-Q3"


def rows_of(client, query=""):
    """The drawn rows of the grid by name."""
    return {cell["row"].node.name: cell["row"] for cell in client.get(f"/forecast/?{query}").context["grid"]}


def test_columns_are_kept_for_the_one_who_chose_them(demo, sign_in):
    head, other = sign_in("m1", apart=True), sign_in("m3", apart=True)
    usual = usual_columns(books.current().reference)
    assert [c.key for c in head.get("/forecast/").context["columns"]] == list(usual)
    assert len(usual) + 2 == 8, "eight with name and ink bar"
    head.post("/forecast/columns/", {"column": ["coverage", "won", "seen", "to_date", "nonsense"]})
    chosen = [c.key for c in head.get("/forecast/").context["columns"]]
    assert chosen == ["won", "seen", "coverage", "to_date"], "in the order of all, unknown ones left out"
    assert [c.key for c in other.get("/forecast/").context["columns"]] == list(usual)
    told = list(csv.reader(io.StringIO(head.get("/forecast/table.csv").content.decode())))
    assert told[0] == ["row", "level", "won", "weighted at actual win rates", "coverage", "attainment to date"]
    # What a measure has not is passed over, and comes back.
    assert [c.key for c in head.get("/forecast/?measure=margin").context["columns"]] == ["won", "coverage", "to_date"]
    head.post("/forecast/columns/", {"what": "usual", "column": ["won"]})
    assert [c.key for c in head.get("/forecast/").context["columns"]] == list(usual)
    assert not Preference.objects.exists()


def test_all_periods_of_the_year_are_those_of_the_command(demo, sign_in):
    client = sign_in("m1")
    table = client.get("/forecast/?form=year&by=source&figure=commit_forecast").context["year"]
    assert [words for words, _ in table.heads] == ["Q1 FY2027", "Q2 FY2027", "Q3 FY2027", "Q4 FY2027", "FY2027"]
    for place, period in enumerate(("FY2027-Q1", "FY2027-Q2", "FY2027-Q3", "FY2027-Q4", "FY2027")):
        told = ask("forecast", period, AS_OF, by="source")
        for row in table.rows[1:]:
            key = row.node.row.key
            value = row.cells[place].value
            assert (value or 0) == (cents(told[key]["commit_forecast"]) if key in told else 0), (period, key)
    for row in table.rows:
        *quarters, year = (cell.value or 0 for cell in row.cells)
        assert sum(quarters) == year
    months = client.get("/forecast/?form=year&period=FY2027-M08").context["year"]
    assert len(months.heads) == 13
    assert client.get("/forecast/?form=year&figure=coverage").status_code == 400
    assert len(client.get("/forecast/table.json?form=year").json()["columns"]) == 2 + 5


def test_rows_fold_and_open_by_address(demo, sign_in):
    client = sign_in("m1")
    usual, folded, every = (rows_of(client, query) for query in ("", "rows=none", "rows=all"))
    assert list(folded) == ["Ferrow & Lisk Hydrometry"]
    assert set(every) == set(usual)
    assert not any(row.deals for row in usual.values())
    assert any(row.deals for row in every.values())
    north = rows_of(client, usual["North region"].toggle)
    assert "North region" in north
    assert "Iva Marrin" not in north
    assert "Joss Merrow" in north
    again = rows_of(client, north["North region"].toggle)
    assert set(again) == set(usual)
    opened = rows_of(client, usual["Joss Merrow"].toggle)["Joss Merrow"]
    weighted = [c.key for c in client.get("/forecast/").context["columns"]].index("weighted")
    assert sum(deal.values[weighted] or 0 for deal in opened.deals) == opened.node.row.weighted


@pytest.mark.parametrize("address", ["/forecast/?by=territory", "/forecast/?by=deal_type&form=year"])
def test_many_rows_are_turned_over_below_the_whole(demo, sign_in, monkeypatch, address):
    client = sign_in("m1")

    def names(query):
        shown = client.get(address + query).context
        return [
            row.node.name
            for row in (shown["year"].rows if "year" in shown else [cell["row"] for cell in shown["grid"]])
        ]

    whole, *others = names("")
    monkeypatch.setattr("wise_tally.pages.forecast.views.AT_ONCE", 3)
    pages = [names(f"&page={number}") for number in range(1, len(others) // 3 + 2)]
    assert [name for page in pages for name in page[1:]] == others
    assert {page[0] for page in pages} == {whole}
    assert names("&page=99") == pages[-1]


def test_margin_first_year_and_number_are_sums_over_the_rows_of_the_demo(demo, sign_in):
    client = sign_in("m1")
    won = {d.deal for d in _won_deals(client)}
    keys = [books.current().deals.key[deal] for deal in won]
    margin = 0
    for key in keys:
        lines = DealLine.objects.filter(deal__key=key)
        if lines and all(line.unit_cost_minor is not None for line in lines):
            for line in lines:
                price = line.quantity_10000ths * line.unit_price_minor * (10_000 - (line.discount_bp or 0))
                margin += round(price / 10_000 / 10_000) - round(line.quantity_10000ths * line.unit_cost_minor / 10_000)
    found = client.get("/forecast/?measure=margin").context["top"]
    assert abs(found.won - margin) <= len(keys), "to a cent a line"
    first_year = 0
    for key in keys:
        plans = [Plan(p.due_on, p.amount_minor, p.every, p.times) for p in Payment.objects.filter(deal__key=key)]
        if plans:
            first = min(plan.due_on for plan in plans)
            last = type(first).fromordinal(first.replace(year=first.year + 1, day=min(first.day, 28)).toordinal() - 1)
            first_year += sum(amount for plan in plans for _, amount in dues(plan, last))
    assert client.get("/forecast/?measure=first_year").context["top"].won == first_year
    assert client.get("/forecast/?measure=deals").context["top"].won == 100 * len(keys)
    page = client.get("/forecast/?measure=margin")
    assert "without margin" in page.content.decode(), "what has none is said"
    assert Deal.objects.filter(key__in=keys).count() == len(keys)


def _won_deals(client):
    """The deals that the won figure of the whole counts."""
    from wise_tally.core.lines import Filter
    from wise_tally.core.working import forecast_working

    line = client.get("/forecast/").context["line"]
    found = forecast_working(line.book, line.snapshot, line.period, Filter(), "won", "company", 0)
    return found.counted


def test_money_by_first_payment_falls_in_its_period(demo, sign_in):
    client = sign_in("m1")
    whole = sum(
        client.get(f"/forecast/?basis=payment&period={period}").context["top"].won
        for period in ("2000-01-01/2026-12-31", "2027-01-01/2199-12-31")
    )
    book = books.current()
    line = client.get("/forecast/").context["line"]
    is_won = line.snapshot.kind == 1
    due = book.attributes.first_due()[line.snapshot.deal]
    assert whole == int(line.snapshot.amount_minor[is_won & (due > 0)].sum())
    assert "not of payment" in client.get("/forecast/?basis=payment").content.decode()


@pytest.mark.parametrize(
    ("query", "says"),
    [
        ("by=colour", "Choose one of: people, territory"),
        ("by=source&within=source", "another second level"),
        ("within=person", "another second level"),
        ("measure=hope", "Choose one of: amount, margin"),
        ("basis=hope", "Choose one of: close, payment"),
        ("form=hope", "Choose one of: year"),
        ("rows=hope", "Choose one of: all, none"),
    ],
)
def test_what_the_grid_does_not_know_is_named(query, says, demo, sign_in):
    answer = sign_in("m1").get(f"/forecast/?{query}")
    assert answer.status_code == 400
    assert says in answer.content.decode()
