"""Target attainment: won against quota and against pace."""

from dataclasses import dataclass

from wise_tally.core.book import Book, Standing
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.lines import Filter
from wise_tally.core.money import ratio
from wise_tally.core.row_targets import row_targets
from wise_tally.core.targets import Target


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
    paces = row_targets(book, standing, period, scope, by, to_date=True)
    return tuple(AttainmentRow(row, paces(row.node)) for row in forecast(book, standing, period, scope, by))
