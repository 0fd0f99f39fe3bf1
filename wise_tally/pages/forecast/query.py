"""What is asked of the forecast beyond the filter line: rows, what is counted, by which day, and how it is drawn."""

from dataclasses import dataclass, replace
from functools import cached_property
from urllib.parse import urlencode

from wise_tally.core.book import BookAsOf
from wise_tally.core.breakdowns import OF_FORECAST
from wise_tally.core.forecast import ForecastLines, forecast_lines
from wise_tally.core.measures import AMOUNT, BASES, CLOSE, DEALS, IN_HUNDREDTHS, MEASURES, valued
from wise_tally.core.what_if import supposed
from wise_tally.pages.forecast.bins import BINS
from wise_tally.pages.forecast.scratch import Scratch
from wise_tally.web.breakdowns import with_own, words_of
from wise_tally.web.filter_line import read_scope
from wise_tally.web.page_query import PageQuery, choice, several, text, whole
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

PEOPLE = "people"
ROWS = (PEOPLE, *(name for name in OF_FORECAST if name not in ("team", "person")))
WITHIN = tuple(name for name in OF_FORECAST if name != "team")
FORMS = ("", "year")
FOLDS = ("", "all", "none")
MEASURE_WORDS = {
    AMOUNT: "amount",
    "margin": "margin",
    DEALS: "number of deals",
    "first_year": "first-year value",
    "quantity": "quantity",
}
BASIS_WORDS = {CLOSE: "expected close", "payment": "first payment due"}


def _own_rows() -> tuple[str, ...]:
    return with_own(ROWS)


def _own_within() -> tuple[str, ...]:
    return with_own(("", *WITHIN))


@dataclass(frozen=True)
class ForecastQuery(PageQuery):
    """The question of one page; every part is in its address and falls back on the first accepted one."""

    by: str = choice(_own_rows, PEOPLE)
    within: str = choice(_own_within, "")
    measure: str = choice(MEASURES)
    basis: str = choice(BASES)
    form: str = choice(FORMS)
    figure: str = text(80)
    rows: str = choice(FOLDS)
    # Rows opened and shut by hand.
    open: tuple[str, ...] = several()
    shut: tuple[str, ...] = several()
    page: int | None = whole(1, 100_000)
    # A column of the drawn distribution, in the working of the chance.
    part: int | None = whole(0, BINS - 1)
    # One open deal taken as won or as lost, in the working of the chance.
    won: str = text()
    lost: str = text()

    @cached_property
    def snapshot(self) -> BookAsOf:
        """The book as it stood, deals counting for the measure."""
        return valued(self.line.book, self.line.snapshot, self.measure, self.basis)

    @cached_property
    def _lines(self) -> dict[str, ForecastLines]:
        return {}

    def lines(self, by: str) -> ForecastLines:
        """The forecast's lines by a breakdown, made once a page."""
        if by not in self._lines:
            line = self.line
            self._lines[by] = forecast_lines(line.book, self.snapshot, line.period, line.scope, by)
        return self._lines[by]

    @property
    def is_plain(self) -> bool:
        """Whether deals count for their amount by their expected close, as everywhere else."""
        return (self.measure, self.basis) == (AMOUNT, CLOSE)

    @property
    def measure_words(self) -> str:
        """What deals count for."""
        return MEASURE_WORDS[self.measure]

    @property
    def basis_words(self) -> str:
        """The day that decides the period."""
        return BASIS_WORDS[self.basis]

    @property
    def aside_shape(self) -> str:
        """How values of the measure are written in whole units."""
        return "hundredths" if self.measure in IN_HUNDREDTHS else "whole"

    @property
    def decided(self) -> tuple[str, str]:
        """The outcome and identifier of the deal taken as decided; empty for none."""
        return next(((name, key) for name, key in (("won", self.won), ("lost", self.lost)) if key), ("", ""))

    def fresh(self, **changes: str) -> str:
        """The page's address with parts changed, from its first row on, and nothing opened or shut by hand."""
        return replace(self, open=(), shut=(), page=None).query(**changes)

    def working(self, token: str, **changes: str) -> str:
        """The query that opens the working of a node's figure."""
        counted = [(name, value) for name, value in self.own() if name in ("measure", "basis")]
        return urlencode([*{**dict(self.line.given), **changes}.items(), *counted, ("node", token)])


def read_question(request: PageRequest) -> ForecastQuery:
    """The question of a request; raises Refused for parts that are not accepted."""
    line = read_scope(request)
    if request.GET.get("suppose"):
        line = replace(line, snapshot=supposed(line.book, line.snapshot, Scratch.of(request).for_core(line)))
    query = ForecastQuery.read(line, request.GET)
    if query.within in (query.by, "person" if query.by == PEOPLE else query.by):
        raise Refused(f"Rows cannot be grouped by {words_of(query.by)} twice. Choose another second level.")
    return query
