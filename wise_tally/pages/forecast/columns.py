"""Columns of the forecast grid: what each shows, and which ones somebody likes to see."""

from collections.abc import Sequence
from dataclasses import dataclass

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.forecast import ForecastRow
from wise_tally.core.measures import AMOUNT
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.row_targets import OfNode
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.preference_actions import preference
from wise_tally.pages.forecast.query import ForecastQuery

PREFERENCE = "forecast.columns"
PLAIN = ("commit_forecast", "best_case_forecast", "lost", "overdue", "overdue_before", "undated")


@dataclass(frozen=True)
class Column:
    """A column: the figure whose working it opens, and how its value is written. `money` is of the measure asked."""

    name: str
    words: str
    shape: str = "money"

    @property
    def has_unit(self) -> bool:
        """Whether the unit of the measure stands in the head."""
        return self.shape == "money"


def columns_of(reference: ReferenceData) -> dict[str, Column]:
    """All columns there are, in the order in which they stand."""
    surest = reference.surest_first
    categories = [*surest, *(index for index in range(len(reference.categories)) if index not in surest)]
    found = [Column("won", "won")]
    found += [Column(f"category:{index}", reference.categories[index].name) for index in categories]
    found += [
        Column("open", "open"),
        Column("weighted_open", "weighted open"),
        Column("weighted", "weighted"),
        Column("seen", "weighted by seen rates"),
        Column("commit_forecast", "won + commit"),
        Column("best_case_forecast", "won + commit + best case"),
        Column("call", "call"),
        Column("quota", "quota"),
        Column("gap", "gap"),
        Column("attainment", "attainment", "percent"),
        Column("coverage", "coverage", "times"),
        Column("pace", "pace"),
        Column("to_date", "to date", "percent"),
        Column("lost", "lost"),
        Column("overdue", "overdue"),
        Column("overdue_before", "due before the period"),
        Column("undated", "undated"),
        Column("deals_won", "deals won", "count"),
        Column("deals_open", "deals open", "count"),
    ]
    return {column.name: column for column in found}


def usual_columns(reference: ReferenceData) -> tuple[str, ...]:
    """The columns beside name and ink bar that everybody begins with."""
    return ("won", *(f"category:{index}" for index in reference.surest_first[:1]), "weighted", "call", "quota", "gap")


def chosen_columns(viewer: Viewer, asked: ForecastQuery) -> list[Column]:
    """The columns that somebody likes to see, in the order of all; those that a measure has not are passed over."""
    reference = asked.line.book.reference
    every = columns_of(reference)
    kept = [name for name in preference(viewer, PREFERENCE).split(",") if name in every]
    wanted = set(kept or usual_columns(reference))
    if asked.measure != AMOUNT:
        wanted -= {"call", "seen"}
    return [column for name, column in every.items() if name in wanted]


@dataclass(frozen=True)
class DealAttributes:
    """What a row's record does not hold, by node: weighted by seen rates, and pace, in minor units."""

    seen: dict[int, int]
    pace: OfNode


def value_of(column: Column, row: ForecastRow, beside: DealAttributes) -> int | float | None:
    """The value of a column in a row, in minor units of the measure, or a ratio."""
    if column.name == "seen":
        return beside.seen.get(row.node, 0)
    if column.name in ("pace", "to_date"):
        return getattr(AttainmentRow(row, beside.pace(row.node)), column.name)  # type: ignore[no-any-return]
    return figure_of(column, row)


def figure_of(column: Column, row: ForecastRow) -> int | float | None:
    """The same of a column that a row's record holds."""
    if column.name.startswith("category:"):
        return row.categories[int(column.name[9:])]
    return getattr(row, column.name)  # type: ignore[no-any-return]


def accepted(reference: ReferenceData, names: Sequence[str]) -> list[str]:
    """The names that are columns, in the order of all."""
    return [name for name in columns_of(reference) if name in names]
