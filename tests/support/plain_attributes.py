"""What stands beside the deals of an invented workspace, by plain loops over its tables."""

from datetime import date
from fractions import Fraction

import numpy as np

from tests.support.plain_plans import dues
from wise_tally.core.cash import Plan
from wise_tally.core.deal_attributes import OWN, DealAttributes, DealValue, Facet, GroupLines
from wise_tally.core.trees import NONE

BY_DEAL = {"partner": ("partner_id", "partners"), "campaign": ("campaign", ""), "competitor": ("competitor", "")}


def hundredths(text):
    """A number with two decimals, kept whole."""
    return round(Fraction(str(text)) * 100)


def plan_of(row):
    """A payment plan of a table's row."""
    times = int(row["times"]) if row.get("times") else None
    return Plan(date.fromisoformat(row["due_on"]), hundredths(row["amount"]), row.get("every") or "", times)


class PlainAttributes(DealAttributes):
    """Lines, payments and attributes of the deals in a world's tables."""

    def __init__(self, tables):
        super().__init__(len(tables["deals"]))
        self.tables, self.keys = tables, [row["deal_id"] for row in tables["deals"]]

    def of_deals(self, table):
        """The rows of a table for each deal."""
        return [[row for row in self.tables.get(table, []) if row["deal_id"] == key] for key in self.keys]

    def facet(self, by, as_of):
        """Partners and texts of deals, and own fields of them."""
        if by.startswith(OWN):
            values = {
                r["subject_id"]: r["value"]
                for r in self.tables.get("field_values", [])
                if r["field_id"] == by[len(OWN) :]
            }
            texts, names = [values.get(key) for key in self.keys], {}
        elif by in BY_DEAL:
            column, table = BY_DEAL[by]
            names = {row[column]: row["name"] for row in self.tables.get(table, [])}
            texts = [row.get(column) or None for row in self.tables["deals"]]
        else:
            return super().facet(by, as_of)
        keys = tuple(names) or tuple(sorted({text for text in texts if text}))
        of_deal = np.array([NONE if text is None else keys.index(text) for text in texts], dtype=np.int64)
        return Facet(keys, tuple(names.get(key, key) for key in keys), of_deal)

    def lines(self):
        """Of each deal its lines as quantity, list value, amount, cost (None without) and product group."""
        groups = {row["product_id"]: row.get("product_group") for row in self.tables.get("products", [])}
        for rows in self.of_deals("deal_lines"):
            found = []
            for row in rows:
                quantity, price = Fraction(row["quantity"]), hundredths(row["unit_price"])
                cost = None if row.get("unit_cost") is None else round(quantity * hundredths(row["unit_cost"]))
                amount = round(quantity * price * (1 - Fraction(row.get("discount") or 0) / 100))
                found.append((round(quantity * 100), round(quantity * price), amount, cost, groups[row["product_id"]]))
            yield found

    def value(self, read):
        """A value of each deal, None for those without."""
        found = list(map(read, self.lines()))
        return DealValue(
            np.array([one or 0 for one in found], dtype=np.int64), np.array([one is not None for one in found])
        )

    def group_lines(self):
        """The lines of all deals by product group, those without one last in their deal."""
        names = tuple(
            sorted({row["product_group"] for row in self.tables.get("products", []) if row.get("product_group")})
        )
        table = []
        for deal, rows in enumerate(self.lines()):
            for group in [*names, None]:
                mine = [row for row in rows if row[4] == group]
                if mine:
                    index = names.index(group) if group else NONE
                    table.append((deal, index, sum(row[2] for row in mine), sum(row[0] for row in mine)))
        return GroupLines(names, *np.array(table, dtype=np.int64).reshape(-1, 4).T)

    def margin(self):
        """Of deals whose lines all have a cost."""
        return self.value(
            lambda rows: sum(r[2] - r[3] for r in rows) if rows and all(r[3] is not None for r in rows) else None
        )

    def list_value(self):
        """Before discounts."""
        return self.value(lambda rows: sum(row[1] for row in rows) if rows else None)

    def discount(self):
        """What discounts take off."""
        return self.value(lambda rows: sum(row[1] - row[2] for row in rows) if rows else None)

    def quantity(self):
        """What is sold."""
        return self.value(lambda rows: sum(row[0] for row in rows) if rows else None)

    def plans(self):
        """The payment plans of each deal."""
        for rows in self.of_deals("payments"):
            yield [plan_of(row) for row in rows]

    def first_due(self):
        """The first day of a payment."""
        return np.array(
            [min((plan.due_on.toordinal() for plan in plans), default=0) for plans in self.plans()], dtype=np.int64
        )

    def first_year(self):
        """What falls due within twelve months of the first."""
        sums = []
        for first, plans in zip(self.first_due().tolist(), self.plans(), strict=True):
            day = date.fromordinal(first or 1)
            last = date.fromordinal(day.replace(year=day.year + 1).toordinal() - 1)
            sums.append(sum(amount for plan in plans for _, amount in dues(plan, last)))
        return DealValue(np.array(sums, dtype=np.int64), self.first_due() > 0)
