"""The columns of the list: what each holds, how it is shown, and by what it is filtered and sorted."""

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from wise_tally.core.calendar import NO_DAY, local_days
from wise_tally.core.customer import CONTACT_INTERVAL_DAYS, contact_gap
from wise_tally.core.deal_list import days_in_stage, days_over, slips
from wise_tally.core.money import WHOLE_BP, Ints
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.models import Deal, OwnField
from wise_tally.domain.deals.selectors import contact_days
from wise_tally.domain.formats import iso_day
from wise_tally.web import deal_columns
from wise_tally.web.chances import chance_column, claimed
from wise_tally.web.deal_rows import DealRow, deals_at
from wise_tally.web.filter_line import FilterLine

Names = Callable[[FilterLine], Sequence[tuple[str, str]]]
Values = Callable[[FilterLine, Ints], np.ndarray]


@dataclass(frozen=True)
class Column:
    """A column: `kind` is text, choice, money, days, day, percent or count.

    One of these says where its values come from: `values` gives numbers of deals from the book (or worked out), for a choice
    indices into `names`; `field` is a column of the deals' table; `texts` gives texts by index into the book, of own
    fields (`own` is the identifier) and of what only revisions hold.
    """

    name: str
    words: str
    kind: str
    values: Values | None = None
    names: Names | None = None
    field: str = ""
    texts: Callable[[FilterLine], dict[int, str]] | None = None
    own: str = ""


def _of_snapshot(name: str) -> Values:
    return lambda line, rows: getattr(line.snapshot, name)[rows]  # type: ignore[no-any-return]


def _of_deals(name: str) -> Values:
    return lambda line, rows: getattr(line.book.deals, name)[line.snapshot.deal[rows]]  # type: ignore[no-any-return]


def _keyed(items: Iterable[Any]) -> list[tuple[str, str]]:
    return [(item.key, item.name) for item in items]


def _created(line: FilterLine, rows: Ints) -> np.ndarray:
    return local_days(line.book.deals.created_at[line.snapshot.deal[rows]], line.book.reference.time_zone)


def _age(line: FilterLine, rows: Ints) -> np.ndarray:
    """Days from a deal's creation to the as-of day, of closed deals to that of their closing."""
    open_now = line.snapshot.kind[rows] == OPEN
    return np.where(open_now, line.as_of.toordinal(), line.snapshot.closed_on[rows]) - _created(line, rows)


def _close_of_open(line: FilterLine, rows: Ints) -> np.ndarray:
    """The expected close of open deals; what is closed expects nothing any more."""
    return np.where(line.snapshot.kind[rows] == OPEN, line.snapshot.expected_close[rows], NO_DAY)


BUILT_IN = (
    Column("customer", "customer", "text", field="account__name"),
    Column("stage", "stage", "choice", _of_snapshot("stage"), lambda line: _keyed(line.book.reference.stages)),
    Column("days", "days in stage", "days", lambda line, at: days_in_stage(line.book, line.snapshot, at)),
    Column("owner", "owner", "choice", _of_snapshot("owner"), lambda line: _keyed(line.book.reference.people)),
    Column("close", "expected close", "day", _close_of_open),
    Column(
        "category", "category", "choice", _of_snapshot("category"), lambda line: _keyed(line.book.reference.categories)
    ),
    Column("amount", "amount", "money", _of_snapshot("amount_minor")),
    Column("weighted", "weighted", "money", _of_snapshot("weighted_minor")),
    Column("probability", "probability", "percent", _of_snapshot("probability_bp")),
    Column("chance", "chance", "percent", lambda line, at: chance_column(line, at) * WHOLE_BP),
    Column("process", "process", "choice", _of_deals("process"), lambda line: line.book.reference.processes),
    Column(
        "territory",
        "territory",
        "choice",
        _of_snapshot("territory"),
        lambda line: _keyed(line.book.reference.territories),
    ),
    Column("over", "days over typical", "days", lambda line, at: days_over(line.book, line.snapshot, at)),
    Column("slips", "slips", "count", lambda line, at: slips(line.book, line.snapshot).count[line.snapshot.deal[at]]),
    Column(
        "slipped",
        "days slipped",
        "count",
        lambda line, at: slips(line.book, line.snapshot).days[line.snapshot.deal[at]],
    ),
    Column("created", "created", "day", _created),
    Column("age", "days since created", "count", _age),
    Column("closed", "closed", "day", _of_snapshot("closed_on")),
    Column("type", "deal type", "choice", _of_deals("deal_type"), lambda line: _named(line.book.reference.deal_types)),
    Column("source", "source", "choice", _of_deals("source"), lambda line: _named(line.book.reference.sources)),
    Column("name", "deal", "text", field="name"),
    Column("contact", "contact", "text", field="contact__name"),
    Column("partner", "partner", "text", field="partner__name"),
    Column("campaign", "campaign", "text", field="campaign"),
    Column("competitor", "competitor", "text", field="competitor"),
    Column("next_step", "next step", "text", field="next_step"),
    Column("next_on", "next step due", "day", field="next_step_on"),
    Column("gap", "missed contacts", "count", deal_columns.gaps),
    Column("contacted", "days since contact", "days", deal_columns.contact_days),
    Column("margin", "margin", "money", deal_columns.margins),
    Column("reason", "loss reason", "text", texts=lambda line: deal_columns.lost_reasons(line.snapshot)),
)
DEFAULT = ("customer", "stage", "days", "owner", "close", "category", "amount", "weighted")


def usual_columns(status: str) -> tuple[str, ...]:
    """The columns of a list until others are chosen: closed deals show the day of their closing."""
    days = {"open": ("close",), "won": ("closed",), "lost": ("closed",)}.get(status, ("close", "closed"))
    index = DEFAULT.index("close")
    return (*DEFAULT[:index], *days, *DEFAULT[index + 1 :])


def _named(names: Iterable[str]) -> list[tuple[str, str]]:
    return [(name, name) for name in names]


def all_columns() -> dict[str, Column]:
    """Every column there is, own fields last."""
    own = OwnField.objects.filter(applies_to="deal").order_by("key")
    kinds = {"number": "count", "date": "day", "choice": "text", "text": "text"}
    columns = {column.name: column for column in BUILT_IN}
    return columns | {f"own.{f.key}": _own_column(f.key, f.name, kinds[f.kind]) for f in own}


def _own_column(key: str, name: str, kind: str) -> Column:
    return Column(f"own.{key}", name, kind, texts=lambda line: deal_columns.own_values(line, key), own=key)


@dataclass(frozen=True)
class Cell:
    """What stands in one cell: a value of the column's kind, or a text; `watch` marks what wants a look."""

    kind: str
    value: Any
    css: str
    watch: str = ""
    more: str = ""
    name: str = ""

    @property
    def plain(self) -> Any:
        """The value for a file: days as ISO 8601, percentages and days as numbers, money in minor units."""
        if self.value is None:
            return ""
        if self.kind == "day":
            return iso_day(self.value)
        if self.kind == "percent":
            return self.value / 100
        return round(float(self.value), 2) if self.kind == "days" else self.value


@dataclass(frozen=True)
class RowData:
    """All that the cells of one deal are made of."""

    row: DealRow
    deal: Deal
    own: dict[str, str]
    contact_days: float
    margin_minor: int | None
    created_on: int
    age_days: int
    lost_reason: str
    chance: tuple[float, str] = (math.nan, "")
    interval_days: int = CONTACT_INTERVAL_DAYS

    @cached_property
    def values(self) -> dict[str, Any]:
        """What stands in the cell of each column that only shows a value, by the column's name."""
        row, deal = self.row, self.deal
        return {
            "customer": row.account_name, "stage": row.stage_name, "owner": row.owner_name,
            "category": row.category_name, "amount": row.amount_minor, "weighted": row.weighted_minor,
            "probability": row.probability_bp, "process": deal.process.name, "territory": row.territory_name,
            "over": row.days_over if row.overstays else None, "slips": row.slips, "slipped": row.slipped_days,
            "closed": None if row.is_open else row.closed_on, "type": deal.deal_type, "source": deal.source,
            "name": row.name, "contact": deal.contact.name if deal.contact else "",
            "partner": deal.partner.name if deal.partner else "", "campaign": deal.campaign,
            "competitor": deal.competitor, "next_step": deal.next_step, "next_on": deal.next_step_on,
            "gap": contact_gap(self.contact_days, self.interval_days), "contacted": self.contact_days, "margin": self.margin_minor,
            "created": self.created_on, "age": self.age_days, "reason": self.lost_reason,
        }  # fmt: skip


def cells(columns: Sequence[Column], data: RowData) -> list[Cell]:
    """The cells of one deal in the order of the columns."""
    return [_cell(column, data) for column in columns]


# Columns that stay on a narrow screen.
ALWAYS = ("stage", "amount")


def css_of(column: Column) -> str:
    """How a column is set: texts to the left, what a narrow screen can do without marked."""
    left = "left trim " if column.kind in ("text", "choice") else ""
    return left + ("" if column.name in ALWAYS else "optional")


def _cell(column: Column, data: RowData) -> Cell:
    row, css = data.row, css_of(column)
    if column.own:
        return Cell("text", data.own.get(column.own, ""), css)
    if column.name == "days":
        return Cell("days", row.days_in_stage, css, "stalled" if row.overstays else "", name="days")
    if column.name == "close":
        slipped = f"slipped {row.slips}×" if row.slips and row.is_open else ""
        close = row.expected_close if row.is_open else None
        return Cell("day", close, css, "overdue" if row.is_overdue else "", slipped)
    if column.name == "chance":
        chance, more = data.chance
        value = None if math.isnan(chance) else round(chance * 100) * 100
        return Cell("percent", value, css, more, name="chance")
    return Cell(column.kind, data.values[column.name], css, name=column.name)


def row_data(line: FilterLine, rows: dict[int, DealRow], columns: Sequence[Column]) -> dict[int, RowData]:
    """What the cells of these deals need: a few queries whatever their number, and only for columns that are shown."""
    shown, indices = {column.name for column in columns}, list(rows)
    listed = np.array(indices, dtype=np.int64)
    deals = deals_at(line, indices, "process", "contact", "partner")
    own = {c.own: deal_columns.own_values(line, c.own) for c in columns if c.own}
    contact = contact_days(deals.values(), line.ends_at) if shown & {"gap", "contacted"} else {}
    margin = deal_columns.margins_of([deal.pk for deal in deals.values()]) if "margin" in shown else {}
    reasons = deal_columns.lost_reasons_of(line, deals.values()) if "reason" in shown else {}
    intervals = deal_columns.contact_intervals(line, listed) if "gap" in shown else None
    created, age = (find(line, listed).tolist() for find in (_created, _age))
    chances = chance_column(line, listed).tolist() if "chance" in shown else [math.nan] * len(indices)
    data = {}
    for number, (snapshot_row, row) in enumerate(rows.items()):
        deal, index = deals[row.key], int(line.snapshot.deal[snapshot_row])
        texts = {key: values.get(index, "") for key, values in own.items()}
        more = (contact.get(deal.pk, 0.0), margin.get(deal.pk), created[number], age[number])
        interval = CONTACT_INTERVAL_DAYS if intervals is None else int(intervals[number])
        chance = (chances[number], claimed(line, snapshot_row, chances[number]))
        data[snapshot_row] = RowData(row, deal, texts, *more, reasons.get(deal.pk, ""), chance, interval)
    return data
