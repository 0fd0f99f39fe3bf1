"""What is asked of attainment beyond the filter line: rows, metric, activity kind; and the place's tabs."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self
from urllib.parse import urlencode

from wise_tally.core.activity import BY as BY_PEOPLE
from wise_tally.core.activity import KINDS, METRIC, activity_attainment
from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.book import BookAsOf
from wise_tally.core.breakdowns import OF_FORECAST
from wise_tally.core.calendar import Period
from wise_tally.core.measures import AMOUNT, DEALS, IN_HUNDREDTHS, QUANTITY, valued
from wise_tally.web.activities_done import done_in
from wise_tally.web.breakdowns import with_own
from wise_tally.web.filter_line import read_scope
from wise_tally.web.nodes import scope_node
from wise_tally.web.page_query import PageQuery, choice
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

MEASURES = {
    AMOUNT: "won amount",
    DEALS: "deals won",
    "margin": "margin",
    QUANTITY: "quantity",
    METRIC: "activities",
}


@dataclass(frozen=True)
class AttainmentQuery(PageQuery):
    """The question of one page; the rows that are usual depend on the viewer."""

    by: str = choice(lambda: with_own(OF_FORECAST), "team", always=True)
    measure: str = choice(MEASURES)
    kind: str = choice(("", *KINDS))

    @classmethod
    def of(cls, request: PageRequest, default_kind: str = "year") -> Self:
        """The question of a request; raises Refused for parts that are not accepted."""
        usual = "person" if request.viewer.sees_own_only else "team"
        query = cls.read(read_scope(request, default_kind), request.GET, by=usual)
        if not query.counts_activities:
            return replace(query, kind="")
        return query if query.by in BY_PEOPLE else replace(query, by=usual)

    @property
    def counts_activities(self) -> bool:
        """Whether activities are counted instead of what deals bring."""
        return self.measure == METRIC

    @property
    def in_hundredths(self) -> bool:
        """Whether values are numbers kept in hundredths instead of money."""
        return self.counts_activities or self.measure in IN_HUNDREDTHS

    @cached_property
    def snapshot(self) -> BookAsOf:
        """The book as it stood, deals counting for the measure."""
        line = self.line
        return line.snapshot if self.counts_activities else valued(line.book, line.snapshot, self.measure)

    def rows(self, by: str, period: Period | None = None) -> tuple[AttainmentRow, ...]:
        """The records of a breakdown in the scope's or another period."""
        line, period = self.line, period or self.line.period
        if not self.counts_activities:
            return attainment(line.book, self.snapshot, period, line.scope, by)
        done = done_in(line, period).of_kind(self.kind)
        return activity_attainment(line.book, line.snapshot, period, line.scope, by, done)

    def row(self, by: str, node: int, period: Period | None = None) -> AttainmentRow:
        """The record of one node; raises Refused where the scope has no such row."""
        record = next((row for row in self.rows(by, period) if row.forecast.node == node), None)
        if record is None:
            raise Refused("This row is not in this selection. Go back and choose one from the page.", 404)
        return record

    @cached_property
    def whole(self) -> AttainmentRow:
        """The record of the whole scope."""
        by, node, _ = scope_node(self.line)
        return self.row(by, node)

    def working(self, token: str, period: Period | None = None) -> str:
        """The query that opens the working of a node's figure."""
        given = dict(self.line.given) | {"period": (period or self.line.period).text, "measure": self.measure}
        kind = {"kind": self.kind} if self.kind else {}
        return urlencode({**given, **kind, "node": token})
