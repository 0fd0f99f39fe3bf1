"""The list of deals: filters, order and paging on whole columns, names read for one page."""

from dataclasses import dataclass
from urllib.parse import urlencode

import numpy as np
from django.db.models import Q
from django.http import HttpRequest

from wise_tally.core.deal_list import due_between, list_totals, overdue, overstaying, slipped_often, undated, untouched
from wise_tally.core.ground import LOST, OPEN, WON
from wise_tally.core.lines import credited_lines
from wise_tally.core.money import Ints
from wise_tally.pages.deals.clauses import JOINS, Clause, kept, read_clauses
from wise_tally.pages.deals.columns import Column, all_columns, usual_columns
from wise_tally.web import deal_columns
from wise_tally.web.filter_line import ScopeLine
from wise_tally.web.paging import Page, page_of
from wise_tally.web.request.refusals import Refused
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
        """Places of the page's deals in the standing."""
        return [int(place) for place in self.all_places[self.page.first : self.page.last]]

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

    def query(self, line: ScopeLine, **changes: str) -> str:
        """The list's address with parts changed; an empty part is dropped."""
        parts = [(name, value) for name, value in self.own if name not in changes]
        return urlencode([*line.given, *parts, *((name, value) for name, value in changes.items() if value)])

    def without(self, line: ScopeLine, gone: Clause) -> str:
        """The list's address without one filter."""
        return urlencode([*line.given, *(part for part in self.own if part != ("f", gone.text))])

    def sorted_by(self, line: ScopeLine, name: str) -> str:
        """The address with a column as the first to sort by, turned round if it is; the others follow."""
        first = name if self.sorts[:1] == (f"-{name}",) else f"-{name}"
        rest = [sort for sort in self.sorts if sort.removeprefix("-") != name]
        return self.query(line, sort=",".join([first, *rest][:MOST_SORTS]))


def listing(line: ScopeLine, request: HttpRequest) -> Listing:
    """The deals of the scope that the filters keep. Raises Refused naming what is accepted."""
    given, columns = request.GET, all_columns()
    status = _one_of("status", given.get("status") or "open", (*STATUSES, "all", "period"))
    only = _one_of("only", given.get("only", ""), ("", *QUICK))
    join = _one_of("join", given.get("join") or "all", JOINS)
    sorts = _sorts(given.get("sort") or "-amount", columns)
    shown = _shown(given.get("cols", ""), columns, status)
    clauses = read_clauses(given, columns)
    find, stage = given.get("find", "").strip()[:200], given.get("stage", "")
    at = np.unique(credited_lines(line.book, line.standing, line.scope, "company").at)
    at = at[_kept(line, at, status, stage)]
    at, counted = _counted(request, line, at)
    if find:
        called = deal_columns.deals_where(line, Q(name__icontains=find))
        called |= deal_columns.deals_where(line, deal_columns.with_related("account", name__icontains=find))
        at = at[called[line.standing.deal[at]]]
    at = at[kept(line, at, clauses, join)]
    at = _quick(line, at, only)
    at = at[_order(line, at, sorts, columns)]
    totals = list_totals(line.standing, at)
    page = page_of(request, len(at), PAGE)
    names = (tuple(sorts), find, stage, only, join, tuple(clauses), shown, columns, counted)
    return Listing(at, page, totals.amount_minor, totals.weighted_minor, status, *names)


def _counted(request: HttpRequest, line: ScopeLine, at: Ints) -> tuple[Ints, tuple[str, str]]:
    """Only the deals that a figure counts, where the address names its working."""
    address = request.GET.get("counted", "")[:MOST_ADDRESS]
    if not address:
        return at, ("", "")
    working = counted_at(request, address)
    figure = None if working else figure_at(request, address)
    # Reading the figure read its own scope line; the page's is this one.
    request.scope_line = line  # type: ignore[attr-defined]
    if working:
        title, deals = working
        return at[np.isin(line.standing.deal[at], deals)], (address, title)
    if figure is None:
        raise Refused("These deals cannot be listed; accepted: the link of a working that lists deals.", 404)
    return at[figure.counted.counts[line.standing.deal[at]]], (address, f"{figure.title}: {figure.total}")


def _one_of(what: str, value: str, accepted: tuple[str, ...]) -> str:
    if value not in accepted:
        raise Refused(f"“{value[:40]}” is not accepted as {what}; accepted: {', '.join(a for a in accepted if a)}.")
    return value


def _sorts(text: str, columns: dict[str, Column]) -> list[str]:
    found = [part for part in text.split(",") if part]
    for part in found:
        _one_of("sort", part.removeprefix("-"), tuple(columns))
    if len(found) > MOST_SORTS:
        raise Refused(f"{len(found)} columns to sort by are too many; accepted: up to {MOST_SORTS}.")
    return found


def _shown(text: str, columns: dict[str, Column], status: str) -> tuple[Column, ...]:
    names = list(dict.fromkeys(part for part in text.split(",") if part)) or usual_columns(status)
    return tuple(columns[_one_of("cols", name, tuple(columns))] for name in names)


def _kept(line: ScopeLine, at: Ints, status: str, stage: str) -> np.ndarray:
    standing, ground = line.standing, line.book.ground
    first, last = line.period.starts_on.toordinal(), line.period.ends_on.toordinal()
    keep = np.ones(len(at), dtype=bool)
    if status in STATUSES:
        keep &= standing.kind[at] == STATUSES[status]
    elif status == "period":
        day = np.where(standing.kind[at] == OPEN, standing.expected_close[at], standing.closed_on[at])
        keep &= (day >= first) & (day <= last)
    if stage:
        index = next((i for i, s in enumerate(ground.stages) if s.key == stage), None)
        if index is None:
            accepted = ", ".join(s.key for s in ground.stages)
            raise Refused(f"There is no stage “{stage[:60]}”; accepted: {accepted}.", 404)
        keep &= standing.stage[at] == index
    return keep


def _quick(line: ScopeLine, at: Ints, only: str) -> Ints:
    """The deals of a quick set."""
    standing = line.standing
    if only == "overdue":
        return at[overdue(standing, at)]
    if only == "undated":
        return at[undated(standing, at)]
    if only == "overstaying":
        return at[overstaying(line.book, standing, at)]
    if only == "untouched":
        return at[untouched(line.book, standing, at)]
    if only == "slipped twice":
        return at[slipped_often(line.book, standing, at)]
    if only == "no next step":
        return at[deal_columns.deals_where(line, Q(next_step=""))[standing.deal[at]]]
    if only in ("closing this month", "closing next month"):
        month = line.book.ground.fiscal.containing(line.as_of, "month")
        month = line.book.ground.fiscal.beside(month, 1) if only == "closing next month" else month
        return at[due_between(standing, at, month.starts_on.toordinal(), month.ends_on.toordinal())]
    if only == "big":
        largest = np.argsort(-standing.amount_minor[at], kind="stable")[: -(-len(at) // BIG_SHARE)]
        return np.sort(at[largest])
    return at


def _order(line: ScopeLine, at: Ints, sorts: list[str], columns: dict[str, Column]) -> Ints:
    """The order by several columns, the first the strongest; what has no value comes last."""
    order = np.arange(len(at))
    for sort in reversed(sorts):
        values = _sort_values(line, at, columns[sort.removeprefix("-")])
        values = -values if sort.startswith("-") else values
        order = order[np.argsort(values[order], kind="stable")]
    return order


def _sort_values(line: ScopeLine, at: Ints, column: Column) -> np.ndarray:
    if column.texts:
        texts = column.texts(line)
        ranked = sorted(set(texts.values()), key=lambda text: (_number(text), text.casefold()))
        place_of = {text: place for place, text in enumerate(ranked, 1)}
        return np.array([place_of.get(texts.get(int(deal), ""), 0) for deal in line.standing.deal[at]])
    if column.field:
        return deal_columns.rank_by(line, column.field)[line.standing.deal[at]]
    assert column.values is not None
    values = column.values(line, at)
    if column.name == "stage":
        place = [stage.process * 1000 + stage.position for stage in line.book.ground.stages]
        return np.array(place or [0])[values]
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
