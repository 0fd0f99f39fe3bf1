"""Target attainment: won against quota and against pace."""

from dataclasses import dataclass

from wise_tally.core.book import Book, Standing
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import ForecastRow, carries_quota, forecast, quotas_of_rows
from wise_tally.core.lines import Filter
from wise_tally.core.money import ratio
from wise_tally.core.targets import NO_TARGET, Target, pace
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class AttainmentRow:
    """A node's forecast row with its pace, in minor units."""

    forecast: ForecastRow
    pace_target: Target

    @property
    def pace(self) -> int | None:
        """Where the quota should stand by the as-of day."""
        return self.pace_target.value

    @property
    def to_date(self) -> float | None:
        """won ÷ pace."""
        return ratio(self.forecast.won, self.pace)


def attainment(book: Book, standing: Standing, period: Period, scope: Filter, by: str) -> tuple[AttainmentRow, ...]:
    """Attainment of every node of `by` inside the filter. Open deals never count as achieved."""
    rows = forecast(book, standing, period, scope, by)
    if not carries_quota(scope, by):
        return tuple(AttainmentRow(row, NO_TARGET) for row in rows)
    if by in ("deal_type", "source"):
        carried = quotas_of_rows(book.ground, standing, period, by)
        names = book.ground.deal_types if by == "deal_type" else book.ground.sources
        by_row = {
            node: pace(book.ground, standing.as_of, period, filters=_filters(by, names[node])).company
            for node in carried
        }
        return tuple(AttainmentRow(row, by_row.get(row.node, NO_TARGET)) for row in rows)
    paces = pace(book.ground, standing.as_of, period)
    return tuple(AttainmentRow(row, NO_TARGET if row.node == NONE else paces.of(by, row.node)) for row in rows)


def _filters(by: str, name: str) -> tuple[str, str, str, str]:
    return ("", name, "", "") if by == "deal_type" else ("", "", name, "")
