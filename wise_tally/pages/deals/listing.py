"""The list of deals: filters, order and paging on whole columns, names read for one page."""

from dataclasses import dataclass
from urllib.parse import urlencode

import numpy as np
from django.db.models import Q

from wise_tally.core.deal_list import due_between, list_totals, overdue, overstaying, slipped_often, undated, untouched
from wise_tally.core.lines import credited_lines
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.pages.deals.columns import Column, all_columns, usual_columns
from wise_tally.pages.deals.filters import JOINS, Clause, matching, read_clauses
from wise_tally.web import deal_columns
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.paging import Page, page_of
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import counted_at
from wise_tally.web.working.pins import figure_at

MOST_ADDRESS = 2_000
PAGE = 50
STATUSES = {"open": OPEN, "won": WON, "lost": LOST}
MOST_SORTS = 3
BIG_SHARE = 10
# Quick sets with what each holds.
QUICK = {
    "closing this month": "open deals expected to close in the present month",
    "closing next month": "open deals expected to close in the month after",
    "overdue": "open deals whose expected close is past",
    "undated": "open deals without an expected close",
    "no next step": "deals without a next step",
    "overstaying": "open deals longer in their stage than its typical days",
    "slipped twice": "deals whose expected close moved later at least twice",
    "untouched": "open deals that have not changed for more than 30 days",
    "big": "the tenth of the listed deals with the largest amounts",
}


@dataclass(frozen=True)
class Listing:
    """The deals of a list in their order, one page of them, and everything that made it so (totals in minor units)."""

    all_places: Ints
    page: Page
    amount_minor: int
    weighted_minor: int
    status: str
    sorts: tuple[str, ...]
    find: str
    stage: str
    only: str
    join: str
    clauses: tuple[Clause, ...]
    columns: tuple[Column, ...]
    known: dict[str, Column]
    # The address of a working, where the list is of exactly the deals that its figure counts, and the figure's words.
    counted: tuple[str, str] = ("", "")

    @property
    def places(self) -> list[int]:
        """Rows of the page's deals in the snapshot."""
        return [int(index) for index in self.all_places[self.page.first : self.page.last]]

    @property
    def total(self) -> int:
        """How many deals the list has."""
        return len(self.all_places)

    @property
    def own(self) -> list[tuple[str, str]]:
        """The list's own part of the address; what is as usual is left out."""
        names = tuple(column.name for column in self.columns)
        parts = [("status", self.status if self.status != "open" else ""), ("find", self.find), ("stage", self.stage)]
        parts += [("only", self.only), ("join", self.join if self.clauses and self.join != "all" else "")]
        parts += [("sort", ",".join(self.sorts) if self.sorts != ("-amount",) else "")]
        parts += [("cols", ",".join(names) if names != usual_columns(self.status) else "")]
        parts += [("counted", self.counted[0])]
        return [(n, v) for n, v in parts if v] + [("f", clause.text) for clause in self.clauses]

    def query(self, line: FilterLine, **changes: str) -> str:
        """The list's address with parts changed; an empty part is dropped."""
        parts = [(name, value) for name, value in self.own if name not in changes]
        return urlencode([*line.given, *parts, *((name, value) for name, value in changes.items() if value)])

    def without(self, line: FilterLine, gone: Clause) -> str:
        """The list's address without one filter."""
        return urlencode([*line.given, *(part for part in self.own if part != ("f", gone.text))])

    def sorted_by(self, line: FilterLine, name: str) -> str:
        """The address with a column as the first to sort by, turned round if it is; the others follow."""
        first = name if self.sorts[:1] == (f"-{name}",) else f"-{name}"
        rest = [sort for sort in self.sorts if sort.removeprefix("-") != name]
        return self.query(line, sort=",".join([first, *rest][:MOST_SORTS]))


def listing(line: FilterLine, request: PageRequest) -> Listing:
    """The deals of the scope that the filters keep. Raises Refused naming what is accepted."""
    given, columns = request.GET, all_columns()
    status = one_of(given.get("status") or "open", (*STATUSES, "all", "period"), "is not accepted as status")
    only = one_of(given.get("only", ""), ("", *QUICK), "is not accepted as only")
    join = one_of(given.get("join") or "all", JOINS, "is not accepted as join")
    sorts = _sorts(given.get("sort") or "-amount", columns)
    shown = _shown(given.get("cols", ""), columns, status)
    clauses = read_clauses(given, columns)
    find, stage = given.get("find", "").strip()[:200], given.get("stage", "")
    rows = np.unique(credited_lines(line.book, line.snapshot, line.scope, "company").rows)
    rows = rows[_matching(line, rows, status, stage)]
    rows, counted = _counted(request, line, rows)
    if find:
        called = deal_columns.deals_where(line, Q(name__icontains=find))
        called |= deal_columns.deals_where(line, deal_columns.with_related("account", name__icontains=find))
        rows = rows[called[line.snapshot.deal[rows]]]
    rows = rows[matching(line, rows, clauses, join)]
    rows = _quick(line, rows, only)
    rows = rows[_order(line, rows, sorts, columns)]
    totals = list_totals(line.snapshot, rows)
    page = page_of(request, len(rows), PAGE)
    names = (tuple(sorts), find, stage, only, join, tuple(clauses), shown, columns, counted)
    return Listing(rows, page, totals.amount_minor, totals.weighted_minor, status, *names)


def _counted(request: PageRequest, line: FilterLine, rows: Ints) -> tuple[Ints, tuple[str, str]]:
    """Only the deals that a figure counts, where the address names its working."""
    address = request.GET.get("counted", "")[:MOST_ADDRESS]
    if not address:
        return rows, ("", "")
    working = counted_at(request, address)
    figure = None if working else figure_at(request, address)
    # Reading the figure read its own filter line; the page's is this one.
    request.filter_line = line
    if working:
        title, deals = working
        return rows[np.isin(line.snapshot.deal[rows], deals)], (address, title)
    if figure is None:
        raise Refused("These deals cannot be listed; accepted: the link of a working that lists deals.", 404)
    return rows[figure.counted.counts[line.snapshot.deal[rows]]], (address, f"{figure.title}: {figure.total}")


def _sorts(text: str, columns: dict[str, Column]) -> list[str]:
    found = [part for part in text.split(",") if part]
    for part in found:
        one_of(part.removeprefix("-"), tuple(columns), "is not accepted as sort")
    if len(found) > MOST_SORTS:
        raise Refused(f"{len(found)} columns to sort by are too many; accepted: up to {MOST_SORTS}.")
    return found


def _shown(text: str, columns: dict[str, Column], status: str) -> tuple[Column, ...]:
    names = list(dict.fromkeys(part for part in text.split(",") if part)) or usual_columns(status)
    return tuple(columns[one_of(name, tuple(columns), "is not accepted as cols")] for name in names)


def _matching(line: FilterLine, rows: Ints, status: str, stage: str) -> np.ndarray:
    snapshot, reference = line.snapshot, line.book.reference
    first, last = line.period.starts_on.toordinal(), line.period.ends_on.toordinal()
    keep = np.ones(len(rows), dtype=bool)
    if status in STATUSES:
        keep &= snapshot.kind[rows] == STATUSES[status]
    elif status == "period":
        day = np.where(snapshot.kind[rows] == OPEN, snapshot.expected_close[rows], snapshot.closed_on[rows])
        keep &= (day >= first) & (day <= last)
    if stage:
        index = next((i for i, s in enumerate(reference.stages) if s.key == stage), None)
        if index is None:
            accepted = ", ".join(s.key for s in reference.stages)
            raise Refused(f"There is no stage “{stage[:60]}”; accepted: {accepted}.", 404)
        keep &= snapshot.stage[rows] == index
    return keep


def _quick(line: FilterLine, rows: Ints, only: str) -> Ints:
    """The deals of a quick set."""
    snapshot = line.snapshot
    if only == "overdue":
        return rows[overdue(snapshot, rows)]
    if only == "undated":
        return rows[undated(snapshot, rows)]
    if only == "overstaying":
        return rows[overstaying(line.book, snapshot, rows)]
    if only == "untouched":
        return rows[untouched(line.book, snapshot, rows)]
    if only == "slipped twice":
        return rows[slipped_often(line.book, snapshot, rows)]
    if only == "no next step":
        return rows[deal_columns.deals_where(line, Q(next_step=""))[snapshot.deal[rows]]]
    if only in ("closing this month", "closing next month"):
        month = line.book.reference.fiscal.containing(line.as_of, "month")
        month = line.book.reference.fiscal.shifted(month, 1) if only == "closing next month" else month
        return rows[due_between(snapshot, rows, month.starts_on.toordinal(), month.ends_on.toordinal())]
    if only == "big":
        largest = np.argsort(-snapshot.amount_minor[rows], kind="stable")[: -(-len(rows) // BIG_SHARE)]
        return np.sort(rows[largest])
    return rows


def _order(line: FilterLine, rows: Ints, sorts: list[str], columns: dict[str, Column]) -> Ints:
    """The order by several columns, the first the strongest; what has no value comes last."""
    order = np.arange(len(rows))
    for sort in reversed(sorts):
        values = _sort_values(line, rows, columns[sort.removeprefix("-")])
        values = -values if sort.startswith("-") else values
        order = order[np.argsort(values[order], kind="stable")]
    return order


def _sort_values(line: FilterLine, rows: Ints, column: Column) -> np.ndarray:
    if column.texts:
        texts = column.texts(line)
        ranked = sorted(set(texts.values()), key=lambda text: (_number(text), text.casefold()))
        place_of = {text: index for index, text in enumerate(ranked, 1)}
        return np.array([place_of.get(texts.get(int(deal), ""), 0) for deal in line.snapshot.deal[rows]])
    if column.field:
        return deal_columns.rank_by(line, column.field)[line.snapshot.deal[rows]]
    assert column.values is not None
    values = column.values(line, rows)
    if column.name == "stage":
        index = [stage.process * 1000 + stage.position for stage in line.book.reference.stages]
        return np.array(index or [0])[values]
    if column.kind == "choice":
        assert column.names is not None
        names = [name for _, name in column.names(line)]
        rank = np.zeros(len(names) + 1, dtype=np.int64)
        rank[sorted(range(len(names)), key=lambda i: names[i].casefold())] = np.arange(1, len(names) + 1)
        return rank[values]
    return np.nan_to_num(values, nan=-1.0) if values.dtype.kind == "f" else np.maximum(values, -(2**62))


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0.0
