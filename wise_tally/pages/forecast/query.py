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
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.choices import chosen
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


@dataclass(frozen=True)
class ForecastQuery:
    """The question of one page; every part is in its address and falls back on the first accepted one."""

    line: FilterLine
    by: str = PEOPLE
    within: str = ""
    measure: str = AMOUNT
    basis: str = CLOSE
    form: str = ""
    figure: str = ""
    rows: str = ""
    open: frozenset[str] = frozenset()
    shut: frozenset[str] = frozenset()
    # A column of the drawn distribution, in the working of the chance.
    part: int | None = None
    # One open deal taken as won or lost, by outcome and identifier, in the working of the chance.
    decided: tuple[str, str] = ("", "")

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
    def given(self) -> list[tuple[str, str]]:
        """Scope and question as the address names them, without what is open."""
        named = [(name, getattr(self, name)) for name in ("by", "within", "measure", "basis", "form", "figure", "rows")]
        usual = ForecastQuery(self.line)
        return [*self.line.given, *((name, value) for name, value in named if value != getattr(usual, name))]

    def query(self, **changes: str) -> str:
        """The page's address with parts changed; what is open stays."""
        parts = {**dict(self.given), **changes}
        folded = [*(("open", token) for token in sorted(self.open)), *(("shut", token) for token in sorted(self.shut))]
        return urlencode([*((name, value) for name, value in parts.items() if value), *folded])

    def fresh(self, **changes: str) -> str:
        """The page's address with parts changed and nothing opened or shut by hand."""
        parts = {**dict(self.given), **changes}
        return urlencode([(name, value) for name, value in parts.items() if value])

    def working(self, token: str, **changes: str) -> str:
        """The query that opens the working of a node's figure."""
        counted = [(name, value) for name, value in self.given if name in ("measure", "basis")]
        return urlencode([*{**dict(self.line.given), **changes}.items(), *counted, ("node", token)])


def read_question(request: PageRequest) -> ForecastQuery:
    """The question of a request; raises Refused for parts that are not accepted."""
    line = read_scope(request)
    if request.GET.get("suppose"):
        line = replace(line, snapshot=supposed(line.book, line.snapshot, Scratch.of(request).for_core(line)))
    own = with_own(())
    asked = ForecastQuery(
        line=line,
        by=chosen(request.GET, "by", (*ROWS, *own)),
        within=chosen(request.GET, "within", ("", *WITHIN, *own)),
        measure=chosen(request.GET, "measure", MEASURES),
        basis=chosen(request.GET, "basis", BASES),
        form=chosen(request.GET, "form", FORMS),
        figure=request.GET.get("figure", "")[:80],
        rows=chosen(request.GET, "rows", FOLDS),
        open=frozenset(request.GET.getlist("open")),
        shut=frozenset(request.GET.getlist("shut")),
        part=_part(request.GET.get("part", "")),
        decided=next(((name, request.GET[name]) for name in ("won", "lost") if request.GET.get(name)), ("", "")),
    )
    if asked.within in (asked.by, "person" if asked.by == PEOPLE else asked.by):
        raise Refused(f"Rows by {words_of(asked.by)} cannot hold the same within; accepted: another second level.")
    return asked


def _part(text: str) -> int | None:
    if text and not (text.isascii() and text.isdigit() and int(text[:4]) < BINS):
        raise Refused(f"“{text[:20]}” is no column of the drawing; accepted: a whole number from 0 to {BINS - 1}.")
    return int(text) if text else None
