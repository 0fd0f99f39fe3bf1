"""The outlook beside submitted forecasts, and both weighed together by how they did in past periods."""

from dataclasses import dataclass
from functools import cached_property

from wise_tally.core.forecast import ForecastRow
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.back_test import past_periods
from wise_tally.core.outlook.combine import LEAST_PAIRS, Weighing, learnt_weighing
from wise_tally.core.outlook.rows import outlook_rows
from wise_tally.core.outlook.verdict import KINDS, PERIODS
from wise_tally.web.expectation import trust_of
from wise_tally.web.filter_line import FilterLine


@dataclass(frozen=True)
class OutlookColumns:
    """The outlook of each row of the page, None where there is none, and the weighing learnt from everybody."""

    line: FilterLine
    rows: dict[str, dict[int, int]]

    @classmethod
    def of(cls, line: FilterLine) -> "OutlookColumns":
        """Of the filter line's period; empty where too few deals were decided or the period is over."""
        if not trust_of(line).shown or trust_of(line).over:
            return cls(line, {})
        selection = (line.book, line.snapshot, line.period, line.scope)
        by_breakdown = {by: outlook_rows(*selection, by) for by in ("company", "team", "person")}
        return cls(line, {by: {node: row.mean for node, row in rows.items()} for by, rows in by_breakdown.items()})

    def outlook_of(self, by: str, node: int) -> int | None:
        """The outlook of a row in minor units."""
        return self.rows.get(by, {}).get(node)

    @cached_property
    def weighing(self) -> Weighing:
        """What submitted forecasts and outlooks of past periods teach, of all people."""
        kind = self.line.period.kind if self.line.period.kind in KINDS else "quarter"
        periods = past_periods(self.line.book, self.line.as_of, kind, PERIODS)
        return learnt_weighing(self.line.book, self.line.snapshot, tuple(periods), Filter())

    def weighed(self, row: ForecastRow, outlook: int | None) -> int | None:
        """Both together: a proposal, where somebody submitted and enough pairs of the past teach a weight."""
        if outlook is None or row.call is None or self.weighing.pairs < LEAST_PAIRS:
            return None
        return self.weighing.of(row.won, row.call, outlook)
