"""Columns of the forecast grid: which figures there are, and which ones somebody likes to see."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.figure import Figure, Number
from wise_tally.core.figures import IN_GRID, category_figure
from wise_tally.core.figures_of_outlook import OF_OUTLOOK
from wise_tally.core.forecast import ForecastRow
from wise_tally.core.measures import AMOUNT
from wise_tally.core.outlook.rows import has_outlook
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.row_targets import OfNode
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.preference_actions import preference
from wise_tally.pages.forecast.query import ForecastQuery

PREFERENCE = "forecast.columns"


def columns_of(reference: ReferenceData) -> dict[str, Figure]:
    """All columns there are, in the order in which they stand: the forecast categories follow what is won."""
    surest = reference.surest_first
    order = [*surest, *(index for index in range(len(reference.categories)) if index not in surest)]
    categories = [category_figure(index, reference.categories[index].name) for index in order]
    won, *others = IN_GRID.values()
    return {figure.key: figure for figure in (won, *categories, *others)}


def usual_columns(reference: ReferenceData) -> tuple[str, ...]:
    """The columns beside name and ink bar that everybody begins with."""
    return ("won", *(f"category:{index}" for index in reference.surest_first[:1]), "weighted", "call", "quota", "gap")


def chosen_columns(viewer: Viewer, query: ForecastQuery) -> list[Figure]:
    """The columns that somebody likes to see, in the order of all; those that a measure has not are passed over."""
    reference = query.line.book.reference
    every = columns_of(reference)
    wanted = set(accepted(reference, preference(viewer, PREFERENCE).split(",")) or usual_columns(reference))
    if query.measure != AMOUNT:
        wanted -= {"call", "seen"}
    if not has_outlook(query.snapshot):
        wanted -= {figure.key for figure in OF_OUTLOOK}
    return [figure for name, figure in every.items() if name in wanted]


@dataclass(frozen=True)
class ColumnSources:
    """What a row's record does not hold: by figure its values by node, the chance of quota of a row, and pace in minor units."""

    values: dict[str, dict[int, int]]
    chance: Callable[[ForecastRow], float | None]
    pace: OfNode


def value_of(figure: Figure, row: ForecastRow, sources: ColumnSources) -> Number:
    """The value of a column in a row, in minor units of the measure, or a ratio."""
    if figure.key in sources.values:
        return sources.values[figure.key].get(row.node, 0)
    if figure.key == "outlook_chance":
        return sources.chance(row)
    return figure.of(AttainmentRow(row, sources.pace(row.node)))


def accepted(reference: ReferenceData, names: Sequence[str]) -> list[str]:
    """The names that are columns, in the order of all."""
    return [name for name in columns_of(reference) if name in names]
