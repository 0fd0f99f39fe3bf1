"""How the figures of team rest on deals, for reconciling and for the list of exactly those deals."""

from typing import Any

import numpy as np
from django.http import HttpRequest

from wise_tally.core.money import Ints
from wise_tally.core.reconcile import Counted, scope_tests, spread
from wise_tally.pages.team import contact_gap, open_by_rep
from wise_tally.pages.team.matrix import Question, part_panel
from wise_tally.pages.team.tallies.views import deals_behind, panel_of, read, require_deals_behind
from wise_tally.pages.team.tallies.words import MEASURES
from wise_tally.web.filter_line import ScopeLine
from wise_tally.web.working.pins import PinnedFigure, provides


def figure_of_deals(line: ScopeLine, words: tuple[str, str, str], at: Ints, adds: Ints, is_money: bool) -> PinnedFigure:
    """A figure that rests on deals at places of the standing; `words` are its title, its total and what makes its base."""
    title, total, basis = words
    size = len(line.book.deals.key)
    held, value = np.zeros(len(line.standing.deal), dtype=bool), np.zeros(len(line.standing.deal), dtype=np.int64)
    held[at] = True
    value[at] = adds if is_money else 1
    tests = (*scope_tests(line.book, line.standing, line.scope), ("definition", spread(line.standing, size, held)))
    return PinnedFigure(title, total, line, basis, Counted(spread(line.standing, size, value), tests, is_money))


@provides("team:tally-working")
def tally_figure(request: HttpRequest, named: dict[str, Any]) -> PinnedFigure:
    """A value of a tally of whole deals."""
    line, tally = read(request)
    require_deals_behind(tally)
    row = request.GET.get("row", "")
    found = panel_of(request, line, tally, row)
    at, adds = deals_behind(line, tally, row)
    is_money = MEASURES[tally.show].shape == "money"
    return figure_of_deals(line, (found.title, found.total, MEASURES[tally.show].words), at, adds, is_money)


def _part(asked: Question) -> PinnedFigure:
    found = part_panel(asked, "")
    at, amount = asked.opened()
    return figure_of_deals(asked.line, (found.title, found.total, asked.opened_words), at, amount, is_money=True)


@provides("team:open-working")
def open_figure(request: HttpRequest, named: dict[str, Any]) -> PinnedFigure:
    """A part of Open by rep."""
    return _part(open_by_rep.read(request))


@provides("team:gaps-working")
def gap_figure(request: HttpRequest, named: dict[str, Any]) -> PinnedFigure:
    """A part of the contact gap."""
    return _part(contact_gap.read(request))
