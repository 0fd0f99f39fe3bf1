"""This period to date against the same days of the period before or of the year before."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.answers.results import of_comparison
from wise_tally.core.attainment import lost_share, side_by_side
from wise_tally.core.breakdowns import OF_FORECAST, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import ForecastRow
from wise_tally.core.same_days import same_days
from wise_tally.core.tally import change_of
from wise_tally.pages.attainment.grid import is_flat, tree_places
from wise_tally.pages.attainment.query import AttainmentQuery
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import period_words
from wise_tally.web.footer import Footer
from wise_tally.web.ink import share
from wise_tally.web.nodes import scope_node, token_of
from wise_tally.web.page_query import choice
from wise_tally.web.paging import paged
from wise_tally.web.request.viewing import PageRequest

# Over a column of the other span.
HEADS = {"before": "previous period", "year": "last year"}
AGAINST = {"before": "previous period", "year": "same days last year"}
# The same in a sentence.
IN_SENTENCES = {"before": "the same days of the previous period", "year": "the same days last year"}
# What is compared: figure, words, how it is written.
COMPARED = (
    ("won", "won", "whole"),
    ("deals_won", "deals won", "count"),
    ("deals_lost", "deals lost", "count"),
    ("lost_share", "loss rate of closed deals", "percent"),
)


@dataclass(frozen=True)
class Cell:
    """A figure of this span and the one before; None where the node has no row then."""

    figure: str
    shape: str
    now: int | float | None
    then: int | float | None

    @property
    def change(self) -> int | float | None:
        """This less before, shares to the whole point; None where either is none."""
        change = change_of(self.now, self.then)
        return round(change, 2) if self.shape == "percent" and change is not None else change

    @property
    def sign(self) -> str:
        """An arrow of the direction, empty where nothing changed."""
        return "" if not self.change else "▲" if self.change > 0 else "▼"

    @property
    def tone(self) -> str:
        """Whether the change is welcome: more won is, more lost is not."""
        if not self.change:
            return ""
        return "up" if (self.change > 0) == (self.figure in ("won", "deals_won")) else "down"


@dataclass(frozen=True)
class ComparedRow:
    """A node with its figures side by side."""

    name: str
    depth: int
    cells: tuple[Cell, ...]
    # What the workings of the spans are opened by.
    query: "ComparisonQuery"
    token: str
    spans: tuple[Period, Period]
    # How far the bar of what was won reaches, and where the stroke of the other span stands, of the row's width.
    bar: str
    stroke: str

    @cached_property
    def working_now(self) -> str:
        """The query of the workings of the present span."""
        return self.query.working(self.token, self.spans[0])

    @cached_property
    def working_then(self) -> str:
        """Of the earlier one."""
        return self.query.working(self.token, self.spans[1])


@dataclass(frozen=True)
class ComparisonQuery(AttainmentQuery):
    """Attainment of this span and of the one it is compared with."""

    against: str = choice(AGAINST)


def spans_of(query: ComparisonQuery) -> tuple[Period, Period | None]:
    """This period to date and the span it is compared with; none where it has not begun."""
    line = query.line
    return same_days(line.book.reference.fiscal, line.period, line.as_of, query.against)


def _value(row: ForecastRow | None, figure: str) -> int | float | None:
    if row is None:
        return None if figure == "lost_share" else 0
    return lost_share(row) if figure == "lost_share" else getattr(row, figure)  # type: ignore[no-any-return]


def compared_rows(query: ComparisonQuery, by: str, spans: tuple[Period, Period | None]) -> list[ComparedRow]:
    """The rows of a breakdown that won or lost in either span: a tree in its order, others by what was won, then by name."""
    line, (present, earlier) = query.line, spans
    if earlier is None:
        return []
    group = grouping(line.book, by, line.as_of)
    by_node = side_by_side(line.book, line.snapshot, (present, earlier), line.scope, by)
    rows = []
    largest = max((row.won for pair in by_node.values() for row in pair if row), default=0)
    places = [(node, 0) for node in by_node] if is_flat(by) else tree_places(line, by, by_node)
    for node, depth in places:
        now, then = pair = by_node[node]
        if not any(row and (row.deals_won or row.deals_lost) for row in pair):
            continue
        bar, stroke = (share(row.won if row else 0, largest) for row in pair)
        token = token_of(group, node)
        cells = tuple(Cell(name, shape, _value(now, name), _value(then, name)) for name, _, shape in COMPARED)
        name = group.key_and_name(node)[1] or f"without a {words_of(by)}"
        rows.append(ComparedRow(name, depth, cells, query, token, (present, earlier), bar, stroke))
    return sorted(rows, key=lambda row: (-(row.cells[0].now or 0), row.name)) if is_flat(by) else rows


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Won and lost of each row in both spans."""
    query = ComparisonQuery.of(request, "quarter")
    spans = spans_of(query)
    rows, turned = paged(request, compared_rows(query, query.by, spans), query.query())
    answer = {
        **_whole(query, spans),
        "is_tree": not is_flat(query.by),
        "by_words": words_of(query.by),
        "by_links": query.links("by", dict(choices(OF_FORECAST))),
        "against_links": query.links("against", AGAINST),
        "then_head": HEADS[query.against],
        "heads": [words for _, words, _ in COMPARED],
        "now_words": period_words(spans[0]),
        "then_words": spans[1] and period_words(spans[1]),
        "rows": rows,
        **turned,
    }
    return render(request, "attainment/compared.html", answer)


def _whole(query: ComparisonQuery, spans: tuple[Period, Period | None]) -> dict[str, Any]:
    """The whole scope in both spans, in a sentence, too."""
    whole = next(iter(compared_rows(query, scope_node(query.line)[0], spans)), None)
    now, then = (whole.cells[0].now, whole.cells[0].then) if whole else (0, 0)
    sentence = of_comparison(int(now or 0), None if spans[1] is None else int(then or 0), IN_SENTENCES[query.against])
    deals = sum(int(cell.now or 0) for cell in whole.cells[1:3]) if whole else 0
    return {
        "answer_sentence": answer_sentence(
            sentence, workings("forecast:working", whole.working_now, "won") if whole else {}
        ),
        "whole": whole,
        "footer": Footer(deals, exports=exports("attainment:compared-table", query.query())),
    }


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Exactly what the table shows, as a file."""
    query = ComparisonQuery.of(request, "quarter")
    spans = spans_of(query)
    header = ["name"]
    for _, words, _ in COMPARED:
        header += [words, f"{words}, earlier"]
    rows = [
        (row.name, *(value for cell in row.cells for value in (cell.now, cell.then)))
        for row in compared_rows(query, query.by, spans)
    ]
    return sheet_response(Sheet("period comparison", tuple(header), frozenset({"won", "won, earlier"}), rows), kind)
