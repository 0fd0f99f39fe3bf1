"""What findings are asked about: a day, a period and a scope, and what the book does not hold."""

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import timedelta
from functools import cached_property

import numpy as np

from wise_tally.core.activity import DoneActivities
from wise_tally.core.answers.answer import Part, Span
from wise_tally.core.attainment import DaysOf
from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import Period
from wise_tally.core.findings.bounds import Bounds
from wise_tally.core.leads import LeadRows
from wise_tally.core.lines import Filter, owner_filtered
from wise_tally.core.money import WHOLE_BP, Ints
from wise_tally.core.outlook.expected import AS_SET, OUTLOOK
from wise_tally.core.outlook.rows import has_outlook, shown_chances
from wise_tally.core.people_table import people_deals
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import Floats
from wise_tally.core.trees import NONE

YEAR_DAYS = 364
# Of few deals so many are big: a rep has some that matter, too.
ALWAYS_BIG = 5


@dataclass(frozen=True)
class Customers:
    """Customers of the scope as columns, shape (customers,): row number (rising), what is unpaid and past due, the day from which (an
    ordinal, 0 for nothing), the sales and numbers of invoices of the last twelve months and of the twelve before, and the sales of the
    last 91 days; money in minor units.
    """

    number: Ints
    key: tuple[str, ...]
    owed_minor: Ints
    owed_since: Ints
    sales_minor: Ints
    sales_before_minor: Ints
    invoices: Ints
    invoices_before: Ints
    sales_lately_minor: Ints


@dataclass(frozen=True)
class Waiting:
    """A new lead nobody got in touch with: its index among the leads, its owner (index, -1 none) and the days it has waited."""

    index: int
    owner: int
    days: float


@dataclass(frozen=True)
class Surroundings:
    """What the book does not hold. Shapes: (deals,) of the book; `reasons` and `competitors` give names and the place of each deal of
    the snapshot among them (-1 none). `lacks_step` tells which of some deals (indices) have no next step; a step has no date of
    its own, so that a past day shows it as it is now.
    """

    silent_days: Floats
    missed: Ints
    lacks_step: Callable[[Ints], Flags]
    customer: Ints
    customers: Customers
    leads: LeadRows
    waiting: tuple[Waiting, ...]
    done: DoneActivities
    reasons: tuple[tuple[str, ...], Ints]
    competitors: tuple[tuple[str, ...], Ints]
    left: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))


@dataclass(frozen=True)
class OpenDeals:
    """Open deals of the scope, shape (n,): rows of the snapshot, indices into the book, credited amounts in minor units, the chance of
    each to be won in the period, and which are big.
    """

    rows: Ints
    deal: Ints
    amount_minor: Ints
    chance: Floats
    big: Flags


@dataclass(frozen=True)
class Question:
    """The day (`snapshot`), the day compared with (`earlier`), period and scope; `by` and `node` are the scope's own row; `way` leads."""

    book: Book
    snapshot: BookAsOf
    earlier: BookAsOf
    period: Period
    scope: Filter
    by: str
    node: int
    way: str
    around: Surroundings
    bounds: Bounds = field(default_factory=Bounds)

    @cached_property
    def span(self) -> Span:
        """The period as sentences speak of it."""
        return Span.of(self.period, DaysOf.at(self.period, self.snapshot.as_of).remaining)

    @property
    def today(self) -> int:
        """The as-of day as an ordinal."""
        return self.snapshot.as_of.toordinal()

    @property
    def leads_by_outlook(self) -> bool:
        """Whether the outlook leads."""
        return self.way == OUTLOOK

    @cached_property
    def of_owner(self) -> Ints:
        """Rows of the scope's deals by the owner on the day."""
        return np.flatnonzero(owner_filtered(self.book, self.snapshot, self.scope))

    @cached_property
    def open(self) -> OpenDeals:
        """The open deals of the scope, the largest first."""
        snapshot = self.snapshot
        rows, amount = people_deals(self.book, snapshot, self.scope, snapshot.kind == OPEN, NONE)
        order = np.argsort(-amount, kind="stable")
        rows, amount = rows[order], amount[order]
        number = max(math.ceil(len(rows) * self.bounds.big_share), ALWAYS_BIG)
        big = (np.arange(len(rows)) < number) & (amount > 0)
        return OpenDeals(rows, snapshot.deal[rows], amount, self._chance[rows], big)

    @cached_property
    def _chance(self) -> Floats:
        """The chance of each deal of the snapshot: by the outlook, else as set where it is due in the period."""
        snapshot = self.snapshot
        due = (snapshot.expected_close <= self.period.ends_on.toordinal()) & (snapshot.expected_close > 0)
        as_set = np.where(due, snapshot.probability_bp / WHOLE_BP, 0.0)
        if self.way == AS_SET or not has_outlook(snapshot):
            return as_set
        chances = shown_chances(self.book, snapshot, self.period)
        return np.where(np.isnan(chances), as_set, chances)

    def last_days(self, days: int, back: int = 0) -> Period:
        """So many days ending `back` days before the as-of day, as a period."""
        ends = self.snapshot.as_of - timedelta(days=back)
        starts = ends - timedelta(days=days - 1)
        return Period(starts, ends, "span", f"{starts}/{ends}")

    @cached_property
    def lately(self) -> tuple[Period, Period]:
        """The last days looked at, and the year before them."""
        days = int(self.bounds.look_back_days)
        return self.last_days(days), self.last_days(YEAR_DAYS, days)


def money_of(minor: int, figure: str = "") -> Part:
    """Money as a part."""
    return Part(minor, figure=figure)


def deal_part(deal: int) -> Part:
    """A deal as a part: its name, which opens its page."""
    return Part(deal, "deal", "deal")


def day_part(ordinal: int) -> Part:
    """A day as a part."""
    return Part(ordinal, "day")
