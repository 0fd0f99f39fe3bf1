"""Open deals in lanes by stage or by forecast category; a card moves by drag or by its own select."""

from dataclasses import dataclass, replace
from math import isnan
from typing import Any
from urllib.parse import urlencode

import numpy as np

from wise_tally.core.answers.results import of_deals
from wise_tally.core.deal_list import ListTotals, due_between, lane_totals, together
from wise_tally.core.lines import deals_in
from wise_tally.core.reference_data import OPEN
from wise_tally.core.trees import NONE
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.process.models import Process, Stage
from wise_tally.pages.deals.undo import last_change
from wise_tally.web.answers import answer_sentence
from wise_tally.web.chances import chance_column, claimed
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.filter_line import FilterLine, only_process
from wise_tally.web.footer import Footer
from wise_tally.web.page_query import PageQuery, choice, several
from wise_tally.web.request.viewing import PageRequest

CARDS = 22
BY = ("stage", "category")
WITHIN = ("", "period")


@dataclass(frozen=True)
class Card:
    """A deal on the board with its chance (NaN where there is none), and the mark of one whose category claims more than that."""

    row: DealRow
    chance: float
    claimed: str

    @property
    def has_chance(self) -> bool:
        """Whether there is a chance."""
        return not isnan(self.chance)


@dataclass(frozen=True)
class Lane:
    """A lane with its totals and its largest deals; `typical_days` is the stage's, none for a category."""

    key: str
    name: str
    totals: ListTotals
    cards: list[Card]
    typical_days: float | None
    hide_query: str
    list_query: str


@dataclass(frozen=True)
class BoardQuery(PageQuery):
    """How the board is cut, which lanes are hidden, and whether only deals due in the period stand on it."""

    view: str = choice(("list", "lanes"))
    by: str = choice(BY, always=True)
    within: str = choice(WITHIN)
    hide: tuple[str, ...] = several()

    def hiding(self, *keys: str) -> str:
        """The address with just these lanes hidden."""
        return replace(self, hide=keys).query()


def lanes_context(request: PageRequest, line: FilterLine) -> dict[str, Any]:
    """Lanes of the open deals of the scope; by stage it is one process at a time."""
    query = BoardQuery.read(line, request.GET)
    line = only_process(line) if query.by == "stage" else line
    line = request.filter_line = line if query.within else replace(line, any_period=True)
    query = replace(query, line=line)
    lanes, reference = _lanes(query, request.viewer), line.book.reference
    names = {stage.key: stage.name for stage in reference.stages} | {
        category.key: category.name for category in reference.categories
    }
    whole = together(lane.totals for lane in lanes)
    sentence = of_deals(whole.deals, whole.amount_minor, whole.weighted_minor, None)
    return {
        "answer_sentence": answer_sentence(sentence, {}),
        "by": query.by,
        "by_links": query.links("by", {name: name for name in BY}, hide=None),
        "lanes": lanes,
        "due_links": query.links("within", {"period": f"due in {line.period_label}", "": "of every date"}),
        "hidden": [
            (names.get(key, key), query.hiding(*(one for one in query.hide if one != key))) for key in query.hide
        ],
        "targets": _targets(line, query.by),
        "may_edit": not line.is_past,
        "undo": last_change(request),
        "this_page": request.get_full_path(),
        "list_query": line.query(),
        "footer": Footer(whole.deals),
    }


def _lanes(query: BoardQuery, viewer: Viewer) -> list[Lane]:
    line, by, hidden = query.line, query.by, query.hide
    reference, snapshot = line.book.reference, line.snapshot
    open_rows = deals_in(line.book, snapshot, line.scope)
    open_rows = open_rows[snapshot.kind[open_rows] == OPEN]
    if query.within:
        open_rows = open_rows[
            due_between(snapshot, open_rows, line.period.starts_on.toordinal(), line.period.ends_on.toordinal())
        ]
    if by == "stage":
        order = reference.open_stages(line.scope.process, with_retired=False) if reference.processes else ()
        nodes, index = reference.stages, snapshot.stage[open_rows]
    else:
        order = tuple(sorted(range(len(reference.categories)), key=lambda i: reference.categories[i].rank))
        nodes, index = reference.categories, snapshot.category[open_rows]  # type: ignore[assignment]
    lane_of = np.full(len(nodes) + 1, NONE, dtype=np.int64)
    lane_of[list(order)] = np.arange(len(order))
    lane = lane_of[index]
    open_rows, lane = open_rows[lane != NONE], lane[lane != NONE]
    totals = lane_totals(snapshot, open_rows, lane, len(order))
    largest = np.lexsort((-snapshot.amount_minor[open_rows], lane))
    shown = {i: open_rows[largest[lane[largest] == i][:CARDS]].tolist() for i in range(len(order))}
    wanted = [p for i, node in enumerate(order) if nodes[node].key not in hidden for p in shown[i]]
    rows = deal_rows(line, wanted, viewer)
    rules, chances = reference.rules_on(line.as_of), chance_column(line, np.array(wanted, dtype=np.int64)).tolist()
    chance = {p: (one, claimed(line, p, one)) for p, one in zip(wanted, chances, strict=True)}
    return [
        Lane(
            key=nodes[node].key,
            name=nodes[node].name,
            totals=totals[i],
            cards=[Card(rows[p], *chance[p]) for p in shown[i] if p in rows],
            typical_days=rules[node].typical_days if by == "stage" else None,
            hide_query=query.hiding(*hidden, nodes[node].key),
            list_query=_list_query(query, nodes[node]),
        )
        for i, node in enumerate(order)
        if nodes[node].key not in hidden
    ]


def _list_query(query: BoardQuery, node: Any) -> str:
    """The list of exactly the deals of a lane."""
    line = query.line
    own = [("stage", node.key)] if query.by == "stage" else [("f", f"category:is:{node.name}")]
    if query.within:
        own += [("f", f"close:from:{line.period.starts_on}"), ("f", f"close:to:{line.period.ends_on}")]
    return urlencode([*line.given, *own])


def _targets(line: FilterLine, by: str) -> list[tuple[str, str]]:
    """Where a card may go: every unretired stage of the process, or every category."""
    if by == "category":
        return [(c.key, c.name) for c in sorted(line.book.reference.categories, key=lambda c: c.rank)]
    key = line.book.reference.processes[line.scope.process][0] if line.book.reference.processes else ""
    process = Process.objects.filter(key=key).first()
    stages = Stage.objects.filter(process=process, retired=False).order_by("position", "key")
    return [(stage.key, stage.name) for stage in stages]
