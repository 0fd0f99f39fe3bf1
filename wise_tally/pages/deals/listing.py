"""The list of deals: filters, order and paging on whole columns, names read for one page."""

from dataclasses import dataclass, replace
from string import ascii_lowercase
from urllib.parse import urlencode

import numpy as np
from django.db.models import Q

from wise_tally.core.deal_list import due_between, list_totals, overdue, overstaying, slipped_often, undated, untouched
from wise_tally.core.lines import deals_in
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.pages.deals.columns import Column, all_columns, usual_columns
from wise_tally.pages.deals.filters import JOINS, Clause, FaultyClause, NewFilter, matching, read_clauses
from wise_tally.web import deal_columns
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.page_query import PageQuery, choice, several, text
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
# Quick filters: name and what each keeps.
QUICK = {
    "closing this month": ("closing this month", "open deals due to close this month"),
    "closing next month": ("closing next month", "open deals due to close next month"),
    "overdue": ("overdue", "open deals whose close date has passed"),
    "undated": ("no close date", "open deals without a close date"),
    "no next step": ("no next step", "deals without a next step"),
    "overstaying": ("stalled", "open deals longer in their stage than the typical days"),
    "slipped twice": ("slipped twice or more", "deals whose close date was moved later at least twice"),
    "untouched": ("no change in 30 days", "open deals with no change in the last 30 days"),
    "big": ("largest 10 %", "the 10 % of listed deals with the largest amounts"),
}


@dataclass(frozen=True)
class ListQuery(PageQuery):
    """What a list keeps, in which order and with which columns."""

    status: str = choice((*STATUSES, "all", "period"))
    find: str = text()
    stage: str = text()
    # Quick filters, all of which a deal fits.
    only: tuple[str, ...] = several(name="only")
    join: str = choice(JOINS)
    sort: str = text(default="-amount")
    cols: str = text(MOST_ADDRESS)
    # The address of a working, where the list is of exactly the deals that its figure counts.
    counted: str = text(MOST_ADDRESS)
    clauses: tuple[str, ...] = several(name="f")
    page: str = text()
    edit: str = choice(("", "yes"))

    def without(self, clause_text: str) -> str:
        """The list's address without one filter."""
        return replace(self, clauses=tuple(clause for clause in self.clauses if clause != clause_text)).query()

    @property
    def free_group(self) -> str:
        """A letter that no group of alternatives has."""
        taken = {clause.partition("~")[0] for clause in self.clauses if clause[1:2] == "~"}
        return next(letter for letter in ascii_lowercase if letter not in taken)

    @property
    def all_clauses(self) -> tuple[str, ...]:
        """Clauses that, all together, keep what the list keeps: where any of them may fit, these are one group."""
        if self.join == "all":
            return self.clauses
        return tuple(clause if clause[1:2] == "~" else f"{self.free_group}~{clause}" for clause in self.clauses)

    def with_alternative(self, clause: Clause) -> str:
        """The list's address with a form for an alternative to a filter, the two in one group."""
        group = clause.group or self.free_group
        grouped = replace(clause, group=group).text
        clauses = tuple(grouped if one == clause.text else one for one in self.clauses)
        query = replace(self, clauses=clauses).query()
        return f"{query}&{urlencode({'new_column': clause.column.name, 'new_group': group})}"

    def with_quick(self, key: str) -> str:
        """The list's address with a quick filter put on or taken off."""
        only = tuple(one for one in self.only if one != key) if key in self.only else (*self.only, key)
        return replace(self, only=only).query()

    def sorted_by(self, name: str) -> str:
        """The address with a column as the first to sort by, turned round if it is; the others follow."""
        sorts = self.sort.split(",")
        first = name if sorts[:1] == [f"-{name}"] else f"-{name}"
        rest = [sort for sort in sorts if sort.removeprefix("-") != name]
        return self.query(sort=",".join([first, *rest][:MOST_SORTS]))


@dataclass(frozen=True)
class Listing:
    """The deals of a list in their order, one page of them, and what made it so (totals in minor units)."""

    query: ListQuery
    all_places: Ints
    page: Page
    amount_minor: int
    weighted_minor: int
    sorts: tuple[str, ...]
    clauses: tuple[Clause, ...]
    columns: tuple[Column, ...]
    known: dict[str, Column]
    # What the figure is whose deals these are; empty where they are those of the scope.
    counted_words: str = ""
    faulty: tuple[FaultyClause, ...] = ()
    form: NewFilter | None = None

    @property
    def places(self) -> list[int]:
        """Rows of the page's deals in the snapshot."""
        return [int(index) for index in self.all_places[self.page.first : self.page.last]]

    @property
    def total(self) -> int:
        """How many deals the list has."""
        return len(self.all_places)


def listing(line: FilterLine, request: PageRequest, strict: bool = True) -> Listing:
    """The deals of the scope that the filters keep. Raises Refused naming what is accepted.

    Without `strict` filters that cannot be applied are left out and reported.
    """
    columns, query = all_columns(), ListQuery.read(line, request.GET)
    sorts, shown = _sorts(query.sort, columns), _shown(query.cols, columns, query.status)
    clauses, faulty, form = read_clauses(request.GET, columns, line)
    if strict and faulty:
        raise Refused(faulty[0].message)
    rows = deals_in(line.book, line.snapshot, line.scope)
    rows = rows[_matching(line, rows, query.status, query.stage)]
    rows, counted_words = _counted(request, line, rows, query.counted)
    if query.find:
        by_name = deal_columns.deals_where(line, Q(name__icontains=query.find))
        by_name |= deal_columns.deals_where(line, deal_columns.with_related("account", name__icontains=query.find))
        rows = rows[by_name[line.snapshot.deal[rows]]]
    rows = rows[matching(line, rows, clauses, query.join)]
    for only in query.only:
        rows = _quick(line, rows, one_of(only, QUICK, "is not accepted as only"))
    rows = rows[_order(line, rows, sorts, columns)]
    totals = list_totals(line.snapshot, rows)
    page = page_of(request, len(rows), PAGE)
    # Addresses of other views of this list begin at its first page, and leave out what is as usual.
    names = ",".join(column.name for column in shown)
    query = replace(
        query,
        cols="" if names == ",".join(usual_columns(query.status)) else names,
        join=query.join if clauses else JOINS[0],
        clauses=(*(clause.text for clause in clauses), *(one.text for one in faulty)),
        page="",
        edit="",
    )
    made = (tuple(sorts), tuple(clauses), shown, columns, counted_words, tuple(faulty), form)
    return Listing(query, rows, page, totals.amount_minor, totals.weighted_minor, *made)


def _counted(request: PageRequest, line: FilterLine, rows: Ints, address: str) -> tuple[Ints, str]:
    """Only the deals that the figure of a working counts, where its address is given, and what it is."""
    if not address:
        return rows, ""
    working = counted_at(request, address)
    figure = None if working else figure_at(request, address)
    # Reading the figure read its own filter line; the page's is this one.
    request.filter_line = line
    if working:
        title, deals = working
        return rows[np.isin(line.snapshot.deal[rows], deals)], title
    if figure is None:
        raise Refused("These deals cannot be listed. Open the list from a figure’s calculation.", 404)
    return rows[figure.counted.counts[line.snapshot.deal[rows]]], f"{figure.title}: {figure.total}"


def _sorts(given: str, columns: dict[str, Column]) -> list[str]:
    sorts = [part for part in given.split(",") if part]
    for part in sorts:
        one_of(part.removeprefix("-"), tuple(columns), "is not accepted as sort")
    if len(sorts) > MOST_SORTS:
        raise Refused(f"Too many sort columns ({len(sorts)}). Use up to {MOST_SORTS}.")
    return sorts


def _shown(given: str, columns: dict[str, Column], status: str) -> tuple[Column, ...]:
    names = list(dict.fromkeys(part for part in given.split(",") if part)) or usual_columns(status)
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
            raise Refused(f"Stage “{stage[:60]}” not found. Choose one of: {accepted}.", 404)
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
        rank_of = {text: index for index, text in enumerate(ranked, 1)}
        return np.array([rank_of.get(texts.get(int(deal), ""), 0) for deal in line.snapshot.deal[rows]])
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
