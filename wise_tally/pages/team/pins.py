"""How the figures of team rest on deals, for reconciling and for the list of exactly those deals."""

from typing import Any

import numpy as np

from wise_tally.core.money import Ints
from wise_tally.core.reconcile import Counted, scope_tests, spread
from wise_tally.pages.team import contact_gap, deals_by_rep
from wise_tally.pages.team.matrix import OpenedTable, part_panel
from wise_tally.pages.team.tallies.views import deals_behind, panel_of, read, require_deals_behind
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.pins import PinnedFigure, provides


def figure_of_deals(
    line: FilterLine, words: tuple[str, str, str], rows: Ints, adds: Ints, is_money: bool
) -> PinnedFigure:
    """A figure that rests on deals at rows of the snapshot; `words` are its title, its total and what makes its base."""
    title, total, basis = words
    size = len(line.book.deals.key)
    inside, value = np.zeros(len(line.snapshot.deal), dtype=bool), np.zeros(len(line.snapshot.deal), dtype=np.int64)
    inside[rows] = True
    value[rows] = adds if is_money else 1
    tests = (*scope_tests(line.book, line.snapshot, line.scope), ("definition", spread(line.snapshot, size, inside)))
    return PinnedFigure(title, total, line, basis, Counted(spread(line.snapshot, size, value), tests, is_money))


@provides("team:tally-working")
def tally_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """A value of a tally of whole deals."""
    line, tally = read(request)
    require_deals_behind(tally)
    row = request.GET.get("row", "")
    panel = panel_of(request, line, tally, row)
    behind = deals_behind(line, tally, row)
    words = (panel.title, panel.total, tally.figure.head)
    return figure_of_deals(line, words, behind.rows, behind.adds, tally.figure.kind == "money")


def _part(opened: OpenedTable) -> PinnedFigure:
    panel = part_panel(opened, "")
    rows, amount = opened.opened()
    return figure_of_deals(opened.line, (panel.title, panel.total, opened.opened_words), rows, amount, is_money=True)


@provides("team:open-working")
def open_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """A part of Open by rep."""
    return _part(deals_by_rep.read(request))


@provides("team:gaps-working")
def gap_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """A part of the contact gap."""
    return _part(contact_gap.read(request))
