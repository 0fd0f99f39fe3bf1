"""One customer in figures: invoices by ageing, sales against the same days last year, contact gap."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime

import numpy as np

from wise_tally.core.calendar import Period
from wise_tally.core.money import Ints
from wise_tally.core.statistics import DAY_SECONDS

# The last day past due of each bucket; None has no end.
AGEING = (("not due", 0), ("1 to 30 days", 30), ("31 to 60 days", 60), ("61 to 90 days", 90), ("over 90 days", None))
CONTACT_INTERVAL_DAYS = 14


@dataclass(frozen=True)
class Owed:
    """An unpaid invoice, in minor units; credit notes are negative."""

    due_on: date
    amount_minor: int


@dataclass(frozen=True)
class AgeingRow:
    """Unpaid invoices of one bucket: how many and their sum in minor units."""

    words: str
    invoices: int
    amount_minor: int
    age_class: int = 0

    @property
    def number(self) -> str:
        """The bucket's place among AGEING as text."""
        return str(self.age_class)


def ageing(unpaid: Sequence[Owed], as_of: date) -> tuple[AgeingRow, ...]:
    """Unpaid invoices by days past due on `as_of`: not due, 1–30, 31–60, 61–90, over 90.

    Due on the day itself is not past due. All five rows always come. Source: common practice.
    """
    sums, counts = [0] * len(AGEING), [0] * len(AGEING)
    for owed in unpaid:
        index = age_class_of(owed.due_on, as_of)
        sums[index] += owed.amount_minor
        counts[index] += 1
    return tuple(AgeingRow(words, counts[i], sums[i], i) for i, (words, _) in enumerate(AGEING))


def age_class_of(due_on: date, as_of: date) -> int:
    """The place in AGEING of what is due on a day and unpaid on another."""
    late = (as_of - due_on).days
    return next(i for i, (_, last) in enumerate(AGEING) if last is None or late <= last)


def unpaid_minor(rows: Sequence[AgeingRow]) -> int:
    """All that is unpaid, in minor units."""
    return sum(row.amount_minor for row in rows)


def past_due_minor(rows: Sequence[AgeingRow]) -> int:
    """What is unpaid and past due, in minor units."""
    return sum(row.amount_minor for row in rows[1:])


@dataclass(frozen=True)
class Sale:
    """An invoice as a sale, in minor units."""

    on: date
    amount_minor: int
    product_group: str
    product: str


@dataclass(frozen=True)
class SalesRow:
    """Sales of a product group (`product` empty: all of it) in two spans, in minor units."""

    product_group: str
    product: str
    this_minor: int
    before_minor: int

    @property
    def change_minor(self) -> int:
        """This span less the one before."""
        return self.this_minor - self.before_minor


def compare_sales(sales: Sequence[Sale], this: Period, before: Period) -> tuple[SalesRow, ...]:
    """Each product group with its products, in the order of their names; a group's row is the sum of its products'."""
    sums: dict[tuple[str, str], list[int]] = {}
    for sale in sales:
        for index, span in enumerate((this, before)):
            if span.starts_on <= sale.on <= span.ends_on:
                for key in ((sale.product_group, ""), (sale.product_group, sale.product or "without a product")):
                    sums.setdefault(key, [0, 0])[index] += sale.amount_minor
    return tuple(SalesRow(*key, *values) for key, values in sorted(sums.items()))


def all_sales(sales: Sequence[Sale], this: Period, before: Period) -> SalesRow:
    """The sales of two spans together, as one row without a group; the sum of the groups of `compare_sales`."""
    spans = [sum(sale.amount_minor for sale in sales if s.starts_on <= sale.on <= s.ends_on) for s in (this, before)]
    return SalesRow("", "", spans[0], spans[1])


@dataclass(frozen=True)
class ShipMonth:
    """Open orders of one ship month (`month` its first day; None without a ship date), in minor units."""

    month: date | None
    amount_minor: int


def orders_by_month(orders: Sequence[tuple[date | None, int]]) -> tuple[ShipMonth, ...]:
    """Amounts of open orders by the month they ship in, those without a date last."""
    sums: dict[date | None, int] = {}
    for ships, amount in orders:
        month = ships.replace(day=1) if ships else None
        sums[month] = sums.get(month, 0) + amount
    ordered = sorted(sums, key=lambda month: (month is None, month or date.min))
    return tuple(ShipMonth(month, sums[month]) for month in ordered)


def days_between(begun: datetime, ended: datetime) -> float:
    """Elapsed days of 24 hours, as the age of a lead."""
    return (ended - begun).total_seconds() / DAY_SECONDS


def days_since_contact(last_contact: Ints, created_at: Ints, moment: float) -> np.ndarray:
    """Days from the last done contact with the customer, or from the creation where there was none (0), to a moment.

    Moments in seconds since 1970 UTC, shape as given.
    """
    return np.asarray((moment - np.where(last_contact > 0, last_contact, created_at)) / DAY_SECONDS)


def contact_gap(days_since_contact: float, interval_days: int = CONTACT_INTERVAL_DAYS) -> int:
    """Whole contact intervals missed since the last done contact (or the deal's creation where there was none).

    An interval is missed once it is over. Source: own term; see the rules of computation.
    """
    return int(contact_gaps(np.array([days_since_contact]), interval_days)[0])


def contact_gaps(days_since_contact: np.ndarray, interval_days: Ints | int = CONTACT_INTERVAL_DAYS) -> Ints:
    """`contact_gap` of many, shape as given; intervals one for all or one each."""
    return np.asarray(np.maximum(days_since_contact, 0.0) // interval_days, dtype=np.int64)
