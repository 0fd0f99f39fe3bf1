"""What the record of a figure holds."""

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from wise_tally.core.attainment import AttainmentRow

NO_QUOTA = "no quota"
Number = int | float | None
OfRow = Callable[[AttainmentRow], Number]


class Kind(StrEnum):
    """What a value is: minor units of money, a number, a ratio of 0 to 1, a multiple, or days of 24 hours."""

    MONEY = "money"
    COUNT = "count"
    PERCENT = "percent"
    TIMES = "times"
    DAYS = "days"


class Family(StrEnum):
    """The computation that a figure comes from; `tally` holds one for each that reports show."""

    FORECAST = "forecast"
    OBSERVED = "observed"
    OUTLOOK = "outlook"
    CREATED = "created"
    WINNING = "winning"
    STAGES = "stages"
    CARE = "care"
    LINES = "lines"
    CASH = "cash"
    ACTIVITIES = "activities"
    LEADS = "leads"
    CONVERSION = "conversion"
    EXITS = "exits"
    DEAL = "deal"
    LIST = "list"
    ACCOUNT = "account"


@dataclass(frozen=True)
class Part:
    """A line of a formula: its words, what it is, and its value in a row where the row holds it."""

    words: str
    kind: Kind
    value: OfRow | None = None


@dataclass(frozen=True)
class Figure:
    """One figure. `value` reads it from a row of the forecast family; the other families compute it.

    `counts` names the figure whose deals its working lists, empty where no deals explain it. `formula` are its lines in order.
    `none` says why there is no value; where `of_quota` a row without a quota goes before. `group` is its place among reports,
    empty where they do not show it; `breakdowns` are the only rows it may have, None for every one.
    """

    key: str
    term: str
    kind: Kind
    definition: str
    family: Family = Family.FORECAST
    group: str = ""
    value: OfRow | None = None
    counts: str = ""
    formula: tuple[Part, ...] = ()
    none: str = ""
    of_quota: bool = False
    sample: Callable[[AttainmentRow], int] | None = None
    breakdowns: tuple[str, ...] | None = None
    in_grid: bool = False
    # What heads a column, where the term is not the plainest.
    label: str = ""

    @property
    def head(self) -> str:
        """What heads a column of it."""
        return self.label or self.term

    @property
    def title(self) -> str:
        """The term as it begins a title."""
        return f"{self.term[0].upper()}{self.term[1:]}"

    @property
    def by_number(self) -> bool:
        """Whether each of its deals counts as one."""
        return self.kind == Kind.COUNT or (bool(self.formula) and all(part.kind == Kind.COUNT for part in self.formula))

    @property
    def takes_measures(self) -> bool:
        """Whether deals may count for something else than their amount: margin, quantity and the like."""
        return self.family == Family.FORECAST and self.kind == Kind.MONEY

    @property
    def adds_up(self) -> bool:
        """Whether its rows together make a whole: sums and numbers do, rates and means do not."""
        return self.kind in (Kind.MONEY, Kind.COUNT) and not any(part.words.startswith("÷") for part in self.formula)

    @property
    def may_hold_within(self) -> bool:
        """Whether its rows may be divided by a second breakdown."""
        return self.family == Family.FORECAST

    @property
    def is_of_the_day(self) -> bool:
        """Whether it counts what stands on the day, whatever the period."""
        return self.key in ("stage_open", "stage_deals", "stage_overstaying", "overstaying")

    def of(self, row: AttainmentRow) -> Number:
        """Its value in a row of the forecast family."""
        assert self.value is not None, self.key
        return self.value(row)

    def why_none(self, row: AttainmentRow) -> str:
        """Why a row has no value."""
        return NO_QUOTA if self.of_quota and row.forecast.quota is None else self.none
