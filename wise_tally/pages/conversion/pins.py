"""How win rates and reached stages are counted, for reconciling."""

from typing import Any

import numpy as np

from wise_tally.core.reconcile import Counted, scope_tests, spread
from wise_tally.domain.formats import money
from wise_tally.pages.conversion.loss_reasons import chosen
from wise_tally.pages.conversion.query import ConversionQuery, stage_asked
from wise_tally.pages.conversion.views import row_of
from wise_tally.pages.conversion.workings import COHORTS, REACHED, STOPPED, cohort_of, conversion_panel, counted_deals
from wise_tally.web.filter_line import period_words
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.pins import PinnedFigure, provides


@provides("conversion:working")
def conversion_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """The base of a rate, or the deals that reached a stage: each counts as one."""
    figure = str(named["figure"])
    query = ConversionQuery.of(request)
    line, options, row = query.line, query.options, row_of(query, request)
    stage = stage_asked(request, line)
    panel = conversion_panel(line, options, figure, stage, row)
    if figure not in ("of_created", "of_closed", *REACHED, *STOPPED):
        raise Refused("This figure does not rest on one set of deals.")
    book, snapshot, size = line.book, line.snapshot, len(line.book.deals.key)
    group = cohort_of(line, options, row)
    inside = group.closed_in_window if figure == "of_closed" else group.in_cohort
    basis = "deals won or lost in the period" if figure == "of_closed" else COHORTS[options.basis]
    based = np.zeros(size, dtype=bool)
    based[snapshot.deal[group.rows[inside]]] = True
    reached = based
    if figure in (*REACHED, *STOPPED):
        index = next(
            i for i, s in enumerate(book.reference.stages) if s.key == stage and s.process == line.scope.process
        )
        rows, counted = counted_deals(line, options, row, figure, index)
        reached = np.zeros(size, dtype=bool)
        reached[snapshot.deal[rows[counted]]] = True
    tests = (*scope_tests(book, snapshot, line.scope), ("basis", based), ("definition", reached))
    ones = np.ones(len(snapshot.deal), dtype=np.int64)
    value = spread(snapshot, size, snapshot.amount_minor if figure == "value" else ones)
    return PinnedFigure(panel.title, panel.total, line, basis, Counted(value * reached, tests, figure == "value"))


@provides("conversion:lost-working")
def lost_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """The money of deals lost in a period, of a row or a cell of the page."""
    behind = chosen(request)
    line, snapshot, size = behind.line, behind.line.snapshot, len(behind.line.book.deals.key)
    every, counted = np.zeros(size, dtype=bool), np.zeros(size, dtype=bool)
    every[snapshot.deal[behind.every]] = True
    counted[snapshot.deal[behind.rows]] = True
    tests = (*scope_tests(line.book, snapshot, line.scope), ("basis", every), ("definition", counted))
    value = spread(snapshot, size, snapshot.amount_minor) * counted
    basis = f"deals lost in {period_words(behind.period)}"
    total = money(int(snapshot.amount_minor[behind.rows].sum()))
    return PinnedFigure(f"Lost, {behind.name}", total, line, basis, Counted(value, tests, True))
