"""The working of a forecast figure as a panel to draw; the core computes it with the figure's own lines."""

from collections.abc import Callable
from dataclasses import replace

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.book import BookAsOf
from wise_tally.core.breakdowns import MEMBER
from wise_tally.core.calls import calls_in_force
from wise_tally.core.errors import UnknownBreakdown, UnknownFigure
from wise_tally.core.figure import Family, Figure
from wise_tally.core.figures import figure_named
from wise_tally.core.forecast import ForecastLines, ForecastRow, forecast, forecast_lines
from wise_tally.core.measures import AMOUNT
from wise_tally.core.money import ratio
from wise_tally.core.observed_weight import observed_snapshot
from wise_tally.core.outcome import outcome_either_way, outcome_of_lines, stakes
from wise_tally.core.row_targets import person_of_node
from wise_tally.core.trees import NONE
from wise_tally.core.working import Working, forecast_working
from wise_tally.domain.formats import percent, points
from wise_tally.pages.forecast import words
from wise_tally.pages.forecast.bins import bins_of
from wise_tally.pages.forecast.cell import ForecastCell
from wise_tally.pages.forecast.outlook_workings import outlook_panel
from wise_tally.pages.forecast.query import BASIS_WORDS, MEASURE_WORDS, ForecastQuery
from wise_tally.web.deal_rows import names_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import node_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelDeal, PanelTerm


def counted_snapshot(query: ForecastQuery, figure: str) -> BookAsOf:
    """The snapshot that a figure counts: with the actual win rates of stages where it says so."""
    line = query.line
    return observed_snapshot(line.book, query.snapshot, line.period) if figure == "seen" else query.snapshot


def panel(query: ForecastQuery, key: str, token: str) -> Panel:
    """The panel of a figure of a node; raises Refused for figures or nodes that do not exist."""
    line = query.line
    figure = forecast_figure(line, key)
    try:
        by, node = node_of(line.book, token, line.as_of)
    except (LookupError, UnknownBreakdown):
        raise Refused(f"The row “{token[:60]}” does not exist. Go back and choose one from the page.", 404) from None
    cell = ForecastCell(query, figure, by, node, _row(query, by, node))
    if figure.family == Family.OUTLOOK:
        return outlook_panel(cell)
    derived = figure.formula or key in SPECIAL_TERMS
    opened = _derived(cell) if derived else _panel_of_deals(cell)
    return opened if query.is_plain else replace(opened, note=f"{opened.note} {_of_measure(query)}".strip())


def forecast_figure(line: FilterLine, key: str) -> Figure:
    """The figure of the forecast that a key names; raises Refused."""
    names = tuple(category.name for category in line.book.reference.categories)
    try:
        figure = figure_named(key, names)
    except UnknownFigure:
        figure = None
    if figure is None or figure.family not in (Family.FORECAST, Family.OBSERVED, Family.OUTLOOK):
        raise Refused(f"“{key[:60]}” is not a figure of the forecast.", 404)
    return figure


def _of_measure(query: ForecastQuery) -> str:
    words = f"Deals count for their {MEASURE_WORDS[query.measure]}" if query.measure != AMOUNT else "Deals count"
    return f"{words} in the period of their {BASIS_WORDS[query.basis]}."


def _row(query: ForecastQuery, by: str, node: int) -> ForecastRow:
    line = query.line
    every = forecast(line.book, query.snapshot, line.period, line.scope, by, calls=True)
    one = next((row for row in every if row.node == node), None)
    if one is None:
        raise Refused("This row is not in this selection. Go back and choose one from the page.", 404)
    return one


def _panel_of_deals(cell: ForecastCell) -> Panel:
    line, figure = cell.query.line, cell.figure
    snapshot = counted_snapshot(cell.query, figure.key)
    sums = forecast_working(line.book, snapshot, line.period, line.scope, figure.counts, cell.by, cell.node)
    return _panel_of_money(cell, sums)


def _panel_of_money(cell: ForecastCell, sums: Working) -> Panel:
    line, written, by_number = cell.query.line, cell.written, cell.figure.by_number
    reference = line.book.reference
    terms = []
    for term in sums.terms:
        stage = reference.stages[term.stage]
        process = reference.processes[stage.process][1] if len(reference.processes) > 1 else ""
        name = f"{stage.name}, {process}" if process else stage.name
        number = f"{term.deals} deal{'s' if term.deals != 1 else ''}"
        text = f"{name}, {number}"
        if term.probability_bp is not None:
            text = f"{name} {points(term.probability_bp)} × {written(term.amount_minor)}, {number}"
        terms.append(PanelTerm(text, str(term.deals) if by_number else written(term.value_minor)))
    first = sums.counted[:FIRST_DEALS]
    keys = [line.book.deals.key[deal.deal] for deal in first]
    names = names_of(line.book, [deal.deal for deal in first])
    rest = sums.counted[FIRST_DEALS:]
    counted = len({deal.deal for deal in sums.counted})
    return cell.panel(
        tuple(terms),
        str(counted) if by_number else written(sums.value_minor),
        deals=tuple(PanelDeal(k, names.get(k, k), written(d.value_minor)) for k, d in zip(keys, first, strict=True)),
        counted=counted,
        folded=len(rest),
        folded_value=written(sum(d.value_minor for d in rest)),
        not_counted=tuple(
            (words.reason(code, category, reference), deals) for code, category, deals in sums.not_counted
        ),
    )


Terms = list[tuple[str, str]]


def _derived(cell: ForecastCell) -> Panel:
    figure, row = cell.figure, AttainmentRow(cell.row, cell.attained.pace_target)
    if figure.key in SPECIAL_TERMS:
        terms = SPECIAL_TERMS[figure.key](cell)
    else:
        terms = [(part.words, cell.shown(part.kind, part.value(row))) for part in figure.formula if part.value]
    total = cell.shown(figure.kind, figure.of(row)) if figure.value else terms.pop()[1]
    panel = cell.panel(tuple(PanelTerm(name, str(value)) for name, value in terms), total)
    if figure.of_quota and cell.row.quota is None:
        return replace(panel, note="No quota is set for this row and period.")
    return panel


def _quota_terms(cell: ForecastCell) -> Terms:
    target, written = cell.row.target, cell.written
    terms = [("own quota, as set", written(target.own)), ("sum of the parts’ quotas", written(target.of_parts))]
    if target.difference is not None:
        terms.append(("difference", written(target.difference)))
    return terms


def _call_terms(cell: ForecastCell) -> Terms:
    line = cell.query.line
    reference = line.book.reference
    subject = (cell.by, NONE if cell.by == "company" else cell.node)
    if cell.by == MEMBER:
        subject = ("person", person_of_node(line.book, line.snapshot)(cell.node))
    call = calls_in_force(reference, line.as_of, line.period).get(subject)
    if call is not None:
        return [(f"submitted by {reference.people[call.made_by].name}", cell.written(call.amount_minor))]
    return [("weighted, for comparison", cell.written(cell.row.weighted))]


def _pace_terms(cell: ForecastCell) -> Terms:
    share = ratio(cell.attained.pace or 0, cell.row.quota)
    return [
        ("quota of the whole period", cell.written(cell.row.quota)),
        ("share due by today", percent(share)),
    ]


def _chance_terms_by_observed(cell: ForecastCell) -> Terms:
    line = cell.query.line
    observed = replace(line, snapshot=observed_snapshot(line.book, line.snapshot, line.period))
    return _chance_terms(replace(cell, query=replace(cell.query, line=observed)))


def _chance_terms(cell: ForecastCell) -> Terms:
    line, written = cell.query.line, cell.written
    lines = forecast_lines(line.book, cell.query.snapshot, line.period, line.scope, "company")
    if cell.query.decided[0]:
        return _either_way_terms(cell, lines)
    outcome = outcome_of_lines(lines)
    if cell.query.part is not None:
        part = bins_of(outcome)[cell.query.part]
        ends = [("outcomes from", written(part.from_minor)), ("up to", written(part.to_minor))]
        return [*ends, ("", percent(part.chance, 2))]
    terms = [("won so far", written(outcome.won_minor)), ("quota", written(cell.row.quota))]
    terms += [(f"P{q}: {q} % chance of at most", written(outcome.quantile(q / 100))) for q in (10, 50, 90)]
    return [*terms, ("calculation step", written(outcome.step_minor)), ("", percent(outcome.chance_of(cell.row.quota)))]


def _either_way_terms(cell: ForecastCell, lines: ForecastLines) -> Terms:
    """The chance of quota if one deal is won, or is not."""
    outcome, key = cell.query.decided
    book, snapshot = cell.query.line.book, cell.query.snapshot
    won, rows, amount = stakes(lines)
    keys = [book.deals.key[int(deal)] for deal in snapshot.deal[rows]]
    if key not in keys:
        raise Refused("This deal is not open in this period. Go back and choose one from the page.", 404)
    either_way = outcome_either_way(won, amount, snapshot.probability_bp[rows], [keys.index(key)], cell.row.quota)
    name = names_of(book, [book.index_by_key[key]]).get(key, key)
    fate = "is won" if outcome == "won" else "is not won"
    terms = [
        ("chance as it is", percent(either_way.whole.chance_of(cell.row.quota))),
        ("quota", cell.written(cell.row.quota)),
    ]
    terms.append((f"amount of {name}", cell.written(int(amount[keys.index(key)]))))
    chance = either_way.chances[0][0 if outcome == "won" else 1]
    return [*terms, (f"if this deal {fate} and the others stay as they are", percent(chance)), ("", percent(chance))]


# Figures whose working no formula of the register explains; of the chance the last term is the total.
SPECIAL_TERMS: dict[str, Callable[[ForecastCell], Terms]] = {
    "quota": _quota_terms,
    "call": _call_terms,
    "pace": _pace_terms,
    "chance": _chance_terms,
    "chance_seen": _chance_terms_by_observed,
}
