"""The row of the forecast whose figure is opened, and how its values are written."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.figure import Figure, Kind, Number
from wise_tally.core.forecast import ForecastRow
from wise_tally.core.row_targets import row_targets
from wise_tally.domain.formats import UNITS, count, percent, times
from wise_tally.pages.forecast.query import ForecastQuery
from wise_tally.web.working.panel import Panel, PanelTerm


@dataclass(frozen=True)
class ForecastCell:
    """The row whose figure is opened."""

    query: ForecastQuery
    figure: Figure
    by: str
    node: int
    row: ForecastRow

    @property
    def attained(self) -> AttainmentRow:
        """The row with its pace."""
        line = self.query.line
        of_row = row_targets(line.book, self.query.snapshot, line.period, line.scope, self.by, to_date=True)
        return AttainmentRow(self.row, of_row(self.node))

    def written(self, minor: int | None) -> str:
        """A value of the measure in its unit."""
        return str(UNITS[self.query.measure](minor))

    def shown(self, kind: Kind, value: Number) -> str:
        """A value of any kind as people read it."""
        if kind == Kind.MONEY:
            return self.written(None if value is None else round(value))
        written: dict[Kind, Callable[[Any], str]] = {Kind.COUNT: count, Kind.PERCENT: percent, Kind.TIMES: times}
        return written[kind](value)

    def panel(self, terms: tuple[PanelTerm, ...], total: str, **deals: Any) -> Panel:
        """The figure's panel: what it is called and counts, its terms and its total."""
        return Panel(
            title=f"{self.figure.title}, {self.row.name or 'without one'}",
            definition=self.figure.definition,
            terms=terms,
            total=total,
            total_words=self.figure.title.lower(),
            **deals,
        )
