"""How figures of the forecast are counted, for reconciling."""

from typing import Any

import numpy as np

from wise_tally.core.buckets import FIRST_OPEN, LOST_IN_PERIOD, TIMINGS, WON_IN_PERIOD, deciding_day
from wise_tally.core.figure import Figure
from wise_tally.core.forecast import ForecastLines, forecast_lines
from wise_tally.core.measures import CLOSE, IN_HUNDREDTHS
from wise_tally.core.reconcile import Counted, scope_tests, spread
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.working import lines_inside
from wise_tally.pages.forecast.query import ForecastQuery, read_question
from wise_tally.pages.forecast.working import counted_snapshot, forecast_figure, panel
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import node_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.pins import PinnedFigure, provides


@provides("forecast:working")
def pinned_figure(request: PageRequest, named: dict[str, Any]) -> PinnedFigure:
    """A figure of money of one node, with the tests each deal passes."""
    query, key = read_question(request), str(named["figure"])
    token, figure = request.GET.get("node", "company:"), forecast_figure(query.line, key)
    opened = panel(query, key, token)
    if not figure.counts:
        raise Refused("This figure does not rest on deals alone.")
    basis = "won deals by the day of closing, open ones by the expected close"
    if query.basis != CLOSE:
        basis = "won and open deals by their first payment due"
    return PinnedFigure(opened.title, opened.total, query.line, basis, _counted(query, figure, token))


def _counted(query: ForecastQuery, figure: Figure, token: str) -> Counted:
    line = query.line
    book, snapshot = line.book, counted_snapshot(query, figure.key)
    by, node = node_of(book, token, line.as_of)
    lines = forecast_lines(book, snapshot, line.period, line.scope, by)
    inside = lines_inside(book, lines, by, node)
    size = len(book.deals.key)
    counts = lines.counts(figure.counts) & inside
    value = np.zeros(size, dtype=np.int64)
    np.add.at(value, snapshot.deal[lines.lines.rows[counts]], lines.value_minor(figure.counts)[counts])
    is_money = query.measure not in IN_HUNDREDTHS and not figure.by_number
    if not is_money:
        value[snapshot.deal[lines.lines.rows[counts]]] = 1
    return Counted(value, _tests(line, lines, figure.counts, (inside, counts)), is_money)


def _tests(
    line: FilterLine, lines: ForecastLines, figure: str, inside: tuple[np.ndarray, np.ndarray]
) -> tuple[tuple[str, np.ndarray], ...]:
    """The scope's tests, then whether the deal lies in the row, has the status, the period and the category."""
    book, snapshot, size = line.book, lines.lines.snapshot, len(line.book.deals.key)
    wanted = lines.buckets.of(figure)
    kinds = [kind for bucket, kind in ((WON_IN_PERIOD, WON), (LOST_IN_PERIOD, LOST)) if bucket in wanted]
    categories = {(bucket - FIRST_OPEN) // TIMINGS for bucket in wanted if bucket >= FIRST_OPEN}
    kinds += [OPEN] if categories else []
    first, last = line.period.starts_on.toordinal(), line.period.ends_on.toordinal()
    day = deciding_day(snapshot)
    in_period = (day >= first) & (day <= last)
    dated = figure not in ("undated", "overdue_before")
    of_row, counted = (np.zeros(size, dtype=bool) for _ in range(2))
    for flags, mask in ((of_row, inside[0]), (counted, inside[1])):
        flags[snapshot.deal[lines.lines.rows[mask]]] = True
    in_category = (snapshot.kind != OPEN) | np.isin(snapshot.category, list(categories))
    return (
        *scope_tests(book, snapshot, line.scope),
        ("whose", of_row),
        ("status", spread(snapshot, size, np.isin(snapshot.kind, kinds))),
        ("period", spread(snapshot, size, in_period) if dated else np.ones(size, dtype=bool)),
        ("category", spread(snapshot, size, in_category)),
        ("definition", counted),
    )
