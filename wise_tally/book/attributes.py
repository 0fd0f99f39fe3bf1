"""Attributes of deals, each read from the database when it is first asked for and kept until any changes."""

from collections.abc import Callable
from datetime import date
from itertools import chain
from typing import Any, TypeVar, cast

import numpy as np
from django.core.exceptions import EmptyResultSet
from django.db import connection
from django.db.models import F, Q, QuerySet

from wise_tally.core.book import Book
from wise_tally.core.breakdowns import CUSTOMER_SIZE, customer_classes
from wise_tally.core.cash import PlanRows, first_dues, first_year_minor
from wise_tally.core.deal_attributes import OWN, DealAttributes, DealValue, Facet, GroupLines
from wise_tally.core.money import Ints, divide_half_even_array, line_amounts, line_costs, margins_of_deals, sum_by_group
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Account, Deal, DealLine, Invoice, OwnField, OwnFieldValue, Partner, Payment
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.process.models import DealType

# Own fields of these kinds have few enough values to be rows.
ROWS_OF = ("choice", "text")
MONTHS = {"": 0, "month": 1, "quarter": 3, "year": 12}


Value = TypeVar("Value")


class StoredAttributes(DealAttributes):
    """What belongs to the deals whose row numbers (ascending) are given."""

    def __init__(self, numbers: Ints) -> None:
        super().__init__(len(numbers))
        self.numbers = numbers
        self._cache: dict[object, Any] = {}

    def cached(self, key: object, read: Callable[[], Value]) -> Value:
        """What `read` gives, read once."""
        if key not in self._cache:
            self._cache[key] = read()
        return cast(Value, self._cache[key])

    def places(self, numbers: Ints) -> Ints:
        """Indices into the book of row numbers of deals; -1 for deals that it does not hold."""
        if self.deals == 0:
            return np.full(len(numbers), NONE)
        index = np.minimum(np.searchsorted(self.numbers, numbers), self.deals - 1)
        return np.where(self.numbers[index] == numbers, index, NONE)

    def references(self, related: str) -> Ints:
        """Row number of what each deal refers to by a column, 0 for none, shape (deals,)."""
        return self.cached(("references", related), lambda: self._references(related))

    def _references(self, related: str) -> Ints:
        # Written so that SQLite answers from the index of the column alone.
        there_is = Deal.objects.filter(**{f"{related}__isnull": False}).order_by(f"{related}_id")
        rows = whole_numbers(there_is.values_list("pk", f"{related}_id"), 2)
        references = np.zeros(self.deals, dtype=np.int64)
        index = self.places(rows[:, 0])
        references[index[index >= 0]] = rows[index >= 0, 1]
        return references

    def facet(self, by: str, as_of: date) -> Facet:
        """The attribute `by`; raises UnknownBreakdown."""
        readers: dict[str, Callable[[], Facet]] = {
            "partner": self._partner,
            "deal_type_group": self._deal_type_group,
            "competitor": lambda: self._texts(_texts_of(Deal.objects.exclude(competitor=""), "competitor")),
            "campaign": lambda: self._texts(_texts_of(Deal.objects.exclude(campaign=""), "campaign")),
            "industry": lambda: self._of_accounts("industry"),
            "country": lambda: self._of_accounts("country"),
        }
        if by.startswith(OWN):
            field = OwnField.objects.filter(key=by[len(OWN) :], applies_to__in=("deal", "account")).first()
            if field is not None:
                return self.cached(by, lambda: self._own(field))
        if by == CUSTOMER_SIZE:
            return self._customer_size(as_of)
        return self.cached(by, readers[by]) if by in readers else super().facet(by, as_of)

    def _customer_size(self, as_of: date) -> Facet:
        """The class of each deal's customer; the organisation sets the classes."""
        classes = self.cached("customer sizes", lambda: Workspace.current().size_classes())
        columns = Invoice.objects.order_by().values_list("account_id", "issued_on", "amount_minor")
        invoices = self.cached("invoices", lambda: whole_numbers(columns, 3))
        begins = np.array([begin for _, begin in classes], dtype=np.int64)
        names = tuple(name for name, _ in classes)
        return Facet(names, names, customer_classes(invoices, self.references("account"), as_of, begins))

    def _partner(self) -> Facet:
        rows = list(Partner.objects.order_by("pk").values_list("pk", "key", "name"))
        index_of = {pk: index for index, (pk, _, _) in enumerate(rows)}
        refers = self.references("partner")
        of_deal = np.array([index_of.get(pk, NONE) for pk in refers.tolist()], dtype=np.int64)
        return Facet(tuple(key for _, key, _ in rows), tuple(name for _, _, name in rows), of_deal)

    def _deal_type_group(self) -> Facet:
        groups = dict(DealType.objects.exclude(group="").values_list("name", "group"))
        rows = _texts_of(Deal.objects.exclude(deal_type=""), "deal_type")
        return self._texts([(pk, groups[name]) for pk, name in rows if name in groups])

    def _texts(self, rows: list[tuple[int, str]]) -> Facet:
        """A facet of texts by row number of the deal, its values sorted by code point."""
        names = tuple(sorted({text for _, text in rows}))
        index = {name: number for number, name in enumerate(names)}
        of_deal = np.full(self.deals, NONE, dtype=np.int64)
        deal_index = self.places(np.array([pk for pk, _ in rows], dtype=np.int64))
        value = np.array([index[text] for _, text in rows], dtype=np.int64)
        of_deal[deal_index[deal_index >= 0]] = value[deal_index >= 0]
        return Facet(names, names, of_deal)

    def _of_accounts(self, column: str) -> Facet:
        return self._by_account(dict(_texts_of(Account.objects.exclude(**{column: ""}), column)))

    def _by_account(self, texts: dict[int, str]) -> Facet:
        """A facet of texts by row number of the deal's customer."""
        names = tuple(sorted(set(texts.values())))
        index = {name: number for number, name in enumerate(names)}
        refers = self.references("account")
        table = np.full(int(max(refers.max(initial=0), max(texts, default=0))) + 1, NONE, dtype=np.int64)
        for account, text in texts.items():
            table[account] = index[text]
        table[0] = NONE
        return Facet(names, names, table[refers])

    def _own(self, field: OwnField) -> Facet:
        model = Deal if field.applies_to == "deal" else Account
        values = dict(OwnFieldValue.objects.filter(field=field).values_list("subject_key", "value"))
        rows = [(pk, values[key]) for pk, key in model.objects.order_by().values_list("pk", "key") if key in values]
        return self._texts(rows) if field.applies_to == "deal" else self._by_account(dict(rows))

    def _lines(self) -> tuple[Ints, Ints, Ints, Ints, Ints, Ints]:
        """Deal, product, quantity, amount, cost (-1 none) and list value of every product line."""
        columns = ("deal_id", "product_id", "quantity_10000ths", "unit_price_minor", "discount_bp", "unit_cost_minor")
        table = whole_numbers(DealLine.objects.order_by().values_list(*columns), len(columns))
        deal, product, quantity, price, discount, cost = table.T
        index = self.places(deal)
        known = index >= 0
        amount = line_amounts(quantity[known], price[known], np.maximum(discount[known], 0))
        spent = np.where(cost[known] == NONE, NONE, line_costs(quantity[known], np.maximum(cost[known], 0)))
        listed = line_amounts(quantity[known], price[known], np.zeros(known.sum(), dtype=np.int64))
        return index[known], product[known], quantity[known], amount, spent, listed

    def lines(self) -> tuple[Ints, Ints, Ints, Ints, Ints, Ints]:
        """Deal, product (row number), quantity, amount, cost (-1 none) and list value of every product line; kept."""
        return self.cached("lines", self._lines)

    def group_lines(self) -> GroupLines:
        """The lines of all deals by product group."""
        return self.cached("group lines", self._group_lines)

    def _group_lines(self) -> GroupLines:
        deal, product, quantity, amount, _, _ = self.lines()
        rows = DealLine.product.field.related_model._default_manager.values_list("pk", "product_group")
        group_of = {pk: group for pk, group in rows if group}
        names = tuple(sorted(set(group_of.values())))
        index = {name: number for number, name in enumerate(names)}
        table = np.full(int(max([product.max(initial=0), *group_of])) + 1, NONE, dtype=np.int64)
        for pk, group in group_of.items():
            table[pk] = index[group]
        width = len(names) + 1
        # Lines without a group stand last in their deal.
        cell = deal * width + np.where(table[product] == NONE, len(names), table[product])
        cells, cell_of = np.unique(cell, return_inverse=True)
        group = cells % width
        amounts, sold = (
            sum_by_group(column, cell_of, len(cells)) for column in (amount, divide_half_even_array(quantity, 100))
        )
        return GroupLines(names, cells // width, np.where(group == len(names), NONE, group), amounts, sold)

    def quantity(self) -> DealValue:
        """What each deal sells."""
        return self.cached("quantity", self._quantity)

    def _quantity(self) -> DealValue:
        table = self.group_lines()
        known = np.bincount(table.deal, minlength=self.deals) > 0
        return DealValue(sum_by_group(table.quantity, table.deal, self.deals), known)

    def margin(self) -> DealValue:
        """The margin of each deal."""
        return self.cached("margin", self._margin)

    def _margin(self) -> DealValue:
        deal, _, _, amount, cost, _ = self.lines()
        return DealValue(*margins_of_deals(deal, amount, cost, self.deals))

    def list_value(self) -> DealValue:
        """What each deal's lines come to before discounts."""
        deal, _, _, _, _, listed = self.lines()
        return DealValue(sum_by_group(listed, deal, self.deals), np.bincount(deal, minlength=self.deals) > 0)

    def discount(self) -> DealValue:
        """What discounts take off."""
        deal, _, _, amount, _, listed = self.lines()
        return DealValue(sum_by_group(listed - amount, deal, self.deals), np.bincount(deal, minlength=self.deals) > 0)

    def _plans(self) -> PlanRows:
        rows = list(Payment.objects.order_by().values_list("deal_id", "due_on", "amount_minor", "every", "times"))
        index = self.places(np.array([row[0] for row in rows], dtype=np.int64))
        columns = (
            [row[1].toordinal() for row in rows],
            [row[2] for row in rows],
            [MONTHS[row[3]] for row in rows],
            [NONE if row[4] is None else row[4] for row in rows],
        )
        known = index >= 0
        return PlanRows(index[known], *(np.array(column, dtype=np.int64)[known] for column in columns))

    def plans(self) -> PlanRows:
        """The payment plans of all deals; kept."""
        return self.cached("plans", self._plans)

    def first_due(self) -> Ints:
        """Day of each deal's first payment."""
        return self.cached("first due", lambda: first_dues(self.plans(), self.deals))

    def first_year(self) -> DealValue:
        """Payments due in the twelve months from a deal's first."""
        return self.cached("first year", self._first_year)

    def _first_year(self) -> DealValue:
        first = self.first_due()
        return DealValue(first_year_minor(self.plans(), first), first > 0)


def _texts_of(records: QuerySet[Any, Any], column: str) -> list[tuple[int, str]]:
    return list(records.order_by().values_list("pk", column))


def attributes_of(book: Book) -> StoredAttributes:
    """What stands beside a book that was read from the database."""
    assert isinstance(book.attributes, StoredAttributes)
    return book.attributes


def stored_rows(records: QuerySet[Any, Any]) -> list[tuple[Any, ...]]:
    """Rows as they are kept, straight from the cursor: moments are seconds, days ordinals."""
    statement = statement_of(records)
    if statement is None:
        return []
    with connection.cursor() as cursor:
        cursor.execute(*statement)
        return cursor.fetchall()


def statement_of(records: QuerySet[Any, Any]) -> tuple[str, tuple[Any, ...]] | None:
    """What the database is asked, with its parameters; None where there can be no rows."""
    try:
        return records.query.sql_with_params()
    except EmptyResultSet:
        return None


def whole_numbers(records: QuerySet[Any, Any], width: int) -> Ints:
    """Rows of whole numbers as they are kept, shape (rows, width); None becomes -1."""
    rows = stored_rows(records)
    try:
        # Without a None nothing of Python runs for a value.
        return np.fromiter(chain.from_iterable(rows), dtype=np.int64, count=len(rows) * width).reshape(-1, width)
    except TypeError:
        flat = (NONE if value is None else value for row in rows for value in row)
        return np.fromiter(flat, dtype=np.int64, count=len(rows) * width).reshape(-1, width)


def breakdowns_of_own() -> list[tuple[str, str]]:
    """Own fields of deals and accounts that rows may be made of, as breakdown and name."""
    fields = OwnField.objects.filter(Q(applies_to="deal") | Q(applies_to="account"), kind__in=ROWS_OF)
    return [
        (OWN + key, name) for key, name in fields.order_by(F("applies_to").desc(), "name").values_list("key", "name")
    ]
