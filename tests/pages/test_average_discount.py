"""Average discount: what discounts take off the products of won deals, by rep and other breakdowns, equal to a loop in fractions."""

import csv
from collections import defaultdict
from datetime import date
from fractions import Fraction

import pytest

from tests.conftest import NOW
from tests.interfaces.test_api import bearer, token_of
from wise_tally.domain.dashboards.actions import save_tally
from wise_tally.domain.deals.models import DealLine, DealRevision
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person

PERIOD, FIRST, LAST = "FY2026", date(2025, 4, 1), date(2026, 3, 31)
# The rate of a breakdown's row: what each deal is filed under.
FILED = {
    "person": lambda deal, last: last.owner.name,
    "industry": lambda deal, last: deal.account.industry if deal.account else "",
    "source": lambda deal, last: deal.source,
    "stage": lambda deal, last: f"{last.stage.name}, {deal.process.name.lower()}",
}


def plain(by):
    """List value and discount of each row, by a loop over product lines."""
    last_of = {
        one.deal_id: one for one in DealRevision.objects.select_related("owner", "stage").order_by("effective_at", "pk")
    }
    found = defaultdict(lambda: [0, 0])
    for line in DealLine.objects.select_related("deal__account", "deal__process"):
        last = last_of[line.deal_id]
        if last.stage.kind != "won" or not FIRST <= local_day(last.effective_at, "Europe/Dublin") <= LAST:
            continue
        listed = Fraction(line.quantity_10000ths, 10_000) * line.unit_price_minor
        amount = round(listed * (1 - Fraction(line.discount_bp or 0, 10_000)))
        row = found[FILED[by](line.deal, last)]
        row[0] += round(listed)
        row[1] += round(listed) - amount
    return found


@pytest.mark.parametrize("by", FILED)
def test_rows_equal_a_loop_over_product_lines(demo, sign_in, by):
    sheet = sign_in("a1").get(f"/team/report/table.csv?show=average_discount&by={by}&period={PERIOD}").content.decode()
    rows = {row[0]: row[1] for row in list(csv.reader(sheet.splitlines()))[1:]}
    expected = plain(by)
    assert len(expected) > 1 or by == "stage"
    for name, (listed, discount) in expected.items():
        # Who has left is named so.
        told = next((value for row, value in rows.items() if row.startswith(name or "without")), None)
        assert told is not None, name
        assert float(told) == pytest.approx(discount / listed, abs=1e-12), name
    assert sum(1 for value in rows.values() if value) == len(expected)


def test_a_reps_rate_opens_its_deals_and_programs_read_it(demo, sign_in, client):
    boss = sign_in("a1")
    name, (listed, discount) = max(plain("person").items(), key=lambda one: one[1][0])
    key = Person.objects.get(name=name).key
    query = f"show=average_discount&by=person&period={PERIOD}"
    panel = boss.get(f"/team/report/working/?{query}&row={key}").content.decode()
    assert f"{discount / listed * 100:.1f}" in panel
    assert "list value" in panel
    query = query.partition("&period")[0]
    kept = save_tally(viewer_of(Person.objects.get(key="a1")), "Discounts", query, shared=True, now=NOW)
    answer = client.get(f"/api/tallies/{kept.key}?period={PERIOD}", **bearer(token_of("r01"))).json()
    own = plain("person").get("Iva Marrin", (1, 0))
    column = answer["columns"][0]
    assert [row[column] for row in answer["rows"] if row["row"] == "Iva Marrin"] == [pytest.approx(own[1] / own[0])]
