"""Tiles: a tally on a dashboard with its own part of the scope, drawn or saying why it is not."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from django.core.exceptions import PermissionDenied

from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.breakdowns import grouping
from wise_tally.core.errors import CoreError
from wise_tally.core.measures import valued
from wise_tally.domain.dashboards.models import Tally
from wise_tally.domain.formats import short
from wise_tally.pages.team.tallies.drawing import report_chart
from wise_tally.pages.team.tallies.query import BY, TallyQuestion, read_saved
from wise_tally.pages.team.tallies.result import Computing, Result, ResultRow, compute
from wise_tally.pages.team.tallies.shipped import SHIPPED
from wise_tally.pages.team.this_week import week_context
from wise_tally.web.breakdowns import with_own
from wise_tally.web.charts import Chart
from wise_tally.web.cumulative import cumulative
from wise_tally.web.day_by_day import day_by_day
from wise_tally.web.filter_line import FilterLine, scope_of
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.nodes import token_of, working_query
from wise_tally.web.paging import Page
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

PIN_WORDS = {"period": "period", "who": "whose", "where": "territory", "process": "process", "kept": "deals"}

# A tile shows so many rows; the others are a page of their own.
MOST_ROWS = 20
# Drawings that are nothing but their rows: on a page of their own these are turned over.
TURNED_OVER = ("table", "matrix")


@dataclass(frozen=True)
class InkRow:
    """A node's record with its bar against quota."""

    record: AttainmentRow
    name: str
    bar: InkBar
    working: str


@dataclass(frozen=True)
class Tile:
    """A tally ready to be drawn; `refused` says why it is not. On a page of its own its rows are turned over by `page`."""

    key: str
    name: str
    tally: TallyQuestion
    line: FilterLine | None
    wide: bool = False
    result: Result | None = None
    drawn: dict[str, Any] = field(default_factory=dict)
    refused: str = ""
    page: Page | None = None

    @property
    def rows(self) -> tuple[ResultRow, ...]:
        """The rows that its table shows."""
        rows = self.result.rows if self.result else ()
        return rows[self.page.first : self.page.last] if self.page else rows[:MOST_ROWS]

    @property
    def more_rows(self) -> int:
        """How many rows a tile leaves to the page of its own."""
        return 0 if self.page or not self.result else max(0, len(self.result.rows) - MOST_ROWS)

    @property
    def rows_query(self) -> str:
        """The page on which all its rows are turned over."""
        return self.query if self.tally.drawing in TURNED_OVER else f"{self.query}&draw=table"

    @property
    def pinned(self) -> str:
        """What of the scope is the tally's own, as people read it."""
        if self.line is None or not self.tally.pinned:
            return ""
        labels = {
            "period": self.line.period_label,
            "who": self.line.who_label,
            "where": self.line.where_label,
            "process": self.line.process_label,
            "kept": self.line.only_label,
        }
        return ", ".join(labels[name] for name, _ in self.tally.pinned)

    @property
    def chart(self) -> Chart | None:
        """The picture of a result over time; none where nothing is drawn so."""
        if self.result is None or not self.result.rows or self.tally.drawing not in ("columns", "line"):
            return None
        return report_chart(self.result, self.tally.drawing, self.key)

    @property
    def query(self) -> str:
        """The tally's page with the scope it is drawn for."""
        own = self.tally.saved_query()
        scope = self.line.query() if self.line else ""
        return "&".join(part for part in (scope, own) if part)


def tile_of(
    request: PageRequest, line: FilterLine, named: tuple[str, str], tally: TallyQuestion, wide: bool = False
) -> Tile:
    """The tile of a tally (identifier and name) under a dashboard's filter line, its own parts going before."""
    key, name = named
    try:
        own = line
        if tally.pinned:
            own = scope_of(request.viewer, {**dict(line.given), **dict(tally.pinned)})
        drawing = tally.drawing
        if drawing in ("year", "trend", "week", "ink"):
            return Tile(key, name, tally, own, wide, drawn=_own_drawing(own, tally, drawing, key))
        result = compute(Computing(own, tally, lambda: visible(request).leads()))
        return Tile(key, name, tally, own, wide, result)
    except PermissionDenied:
        return Tile(key, name, tally, None, wide, refused="You do not have access to this data.")
    except (Refused, CoreError) as error:
        return Tile(key, name, tally, None, wide, refused=str(error))


def _own_drawing(line: FilterLine, tally: TallyQuestion, drawing: str, key: str) -> dict[str, Any]:
    if drawing == "year":
        return {"cumulative": cumulative(line, key=f"picture-{key}")}
    if drawing == "trend":
        return {"trend": day_by_day(line, f"picture-{key}")}
    if drawing == "week":
        week = week_context(line)
        return week | {"lines": week["lines"][:MOST_ROWS], "more": max(0, len(week["lines"]) - MOST_ROWS)}
    rows, more = ink_rows(line, tally)
    return {"ink_rows": rows, "more": more}


def ink_rows(line: FilterLine, tally: TallyQuestion) -> tuple[list[InkRow], int]:
    """Nodes with a quota or money in the period, the furthest behind pace first, one scale for all; and how many more there are."""
    snapshot = valued(line.book, line.snapshot, tally.measure, tally.basis)
    behind = [
        row
        for row in attainment(line.book, snapshot, line.period, line.scope, tally.by)
        if row.forecast.quota or row.forecast.won or row.forecast.open
    ]
    group, counted = grouping(line.book, tally.by, line.as_of), line.book.reference.surest_first
    largest = max([1, *(max(r.forecast.won + r.forecast.open, r.forecast.quota or 0) for r in behind)])
    rows = []
    for row in sorted(behind, key=lambda r: r.to_date if r.to_date is not None else 99.0)[:MOST_ROWS]:
        f = row.forecast
        bar = ink_bar(f.won, [f.categories[c] for c in counted], f.quota, row.pace, largest)
        words = f"{f.name}: won {short(f.won)}, quota {short(f.quota)}, pace {short(row.pace)}"
        drawn = InkBar(bar.segments, bar.quota, bar.pace, words)
        query = working_query(line, token_of(group, f.node)) + f"&measure={tally.measure}&basis={tally.basis}"
        rows.append(InkRow(row, f.name or "without one", drawn, query))
    return rows, max(0, len(behind) - MOST_ROWS)


def questions_of(keys: Sequence[str]) -> dict[str, tuple[str, TallyQuestion]]:
    """Name and question of kept and shipped tallies by identifier; those that are gone are not among them."""
    every = with_own(BY)
    questions = {key: (SHIPPED[key].name, read_saved(SHIPPED[key].query, every)) for key in keys if key in SHIPPED}
    for tally in Tally.objects.filter(key__in=[key for key in keys if key not in SHIPPED]):
        try:
            questions[tally.key] = (tally.name, read_saved(tally.query, every))
        except Refused:
            # An own field or an identifier that the tally was kept with is gone.
            questions[tally.key] = (tally.name, TallyQuestion())
    return questions


def tiles_of(request: PageRequest, line: FilterLine, placed: Sequence[tuple[str, bool]]) -> list[Tile]:
    """The tiles of a dashboard in their order; a tally that is gone says so."""
    questions = questions_of([key for key, _ in placed])
    tiles = []
    for key, wide in placed:
        if key not in questions:
            tiles.append(
                Tile(
                    key,
                    "Deleted report",
                    TallyQuestion(),
                    None,
                    wide,
                    refused="This report was deleted. Remove it from the dashboard.",
                )
            )
            continue
        name, tally = questions[key]
        tiles.append(tile_of(request, line, (key, name), tally, wide))
    return tiles
