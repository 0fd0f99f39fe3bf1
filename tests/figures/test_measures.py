"""What deals count for, and rows by the attributes: against sums over the package's own rows."""

from collections import defaultdict
from datetime import date
from fractions import Fraction

import numpy as np
import pytest

from tests.support.naive import cents, half_even
from tests.support.plain_plans import dues
from tests.support.random_world import AS_OF, PERIOD, PRODUCTS, world_with_lines
from wise_tally.book.store import books
from wise_tally.core.cash import Plan
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.money import apportion


def line_values(world):
    """Amount and margin (None without a cost) of each line by deal, and the amounts by deal and group."""
    groups = {key: group for key, group, _ in PRODUCTS}
    by_deal, by_group = defaultdict(list), defaultdict(lambda: defaultdict(int))
    for row in world.tables.get("deal_lines", []):
        quantity = Fraction(row["quantity"])
        left = 1 - Fraction(row.get("discount") or 0) / 100
        amount = half_even(quantity * cents(row["unit_price"]) * left)
        cost = None if row.get("unit_cost") is None else half_even(quantity * cents(row["unit_cost"]))
        by_deal[row["deal_id"]].append(None if cost is None else amount - cost)
        by_group[row["deal_id"]][groups[row["product_id"]]] += amount
    return by_deal, by_group


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(4))
def test_margin_first_year_and_groups_are_those_of_the_rows(seed, tmp_path):
    world = world_with_lines(seed).read(tmp_path)
    book = books.current()
    margins, groups = line_values(world)
    found = book.attributes.margin()
    plans = defaultdict(list)
    for row in world.tables.get("payments", []):
        times = int(row["times"]) if row.get("times") else None
        plan = Plan(date.fromisoformat(row["due_on"]), cents(row["amount"]), row.get("every") or "", times)
        plans[row["deal_id"]].append(plan)
    for place, key in enumerate(book.deals.key):
        has = bool(margins[key]) and None not in margins[key]
        assert bool(found.known[place]) == has
        assert found.value_minor[place] == (sum(margins[key]) if has else 0)
        first = min((plan.due_on for plan in plans[key]), default=None)
        assert book.attributes.first_due()[place] == (first.toordinal() if first else 0)
        if first:
            last = date.fromordinal(first.replace(year=first.year + 1).toordinal() - 1)
            due = sum(amount for plan in plans[key] for _, amount in dues(plan, last))
            assert book.attributes.first_year().value_minor[place] == due
    snapshot = book.as_of(AS_OF)
    table = book.attributes.group_lines()
    for deal in range(len(book.deals.key)):
        rows = [
            (table.groups[g] if g >= 0 else None, int(a))
            for g, a in zip(table.group[table.deal == deal], table.amount_minor[table.deal == deal], strict=True)
        ]
        assert dict(rows) == dict(groups[book.deals.key[deal]])
    period = book.reference.fiscal.parse(PERIOD)
    # Each won deal divided by hand: the row of a group is the sum of its parts.
    wanted = defaultdict(int)
    for place in np.flatnonzero((snapshot.kind == 1) & (snapshot.closed_on >= period.starts_on.toordinal())):
        if snapshot.closed_on[place] <= period.ends_on.toordinal():
            shares = sorted(groups[book.deals.key[snapshot.deal[place]]].items(), key=lambda item: item[0] or "￿")
            parts = apportion(int(snapshot.amount_minor[place]), [a for _, a in shares], [str(i) for i in range(9)])
            for (group, _), part in zip(shares, parts, strict=True):
                wanted[group] += part
            if not shares:
                wanted[None] += int(snapshot.amount_minor[place])
    rows = forecast(book, snapshot, period, Filter(), "product_group")
    assert {row.key: row.won for row in rows if row.won} == {key: value for key, value in wanted.items() if value}
