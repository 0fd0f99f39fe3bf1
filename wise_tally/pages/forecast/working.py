"""The working of a forecast figure as a panel to draw; the core computes it with the figure's own lines."""

from dataclasses import dataclass, replace

from wise_tally.core.attainment import AttainmentRow, lost_share, won_share
from wise_tally.core.book import BookAsOf
from wise_tally.core.breakdowns import MEMBER
from wise_tally.core.buckets import FIGURES
from wise_tally.core.calls import calls_in_force
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.core.forecast import ForecastLines, ForecastRow, forecast, forecast_lines
from wise_tally.core.measures import AMOUNT
from wise_tally.core.money import divide_half_even, ratio
from wise_tally.core.observed_weight import observed_snapshot
from wise_tally.core.outcome import outcome_either_way, outcome_of_lines, stakes
from wise_tally.core.row_targets import person_of_node, row_targets
from wise_tally.core.trees import NONE
from wise_tally.core.working import Working, forecast_working
from wise_tally.domain.formats import UNITS, count, percent, points, times
from wise_tally.pages.forecast import words
from wise_tally.pages.forecast.bins import bins_of
from wise_tally.pages.forecast.query import BASIS_WORDS, MEASURE_WORDS, ForecastQuery
from wise_tally.web.deal_rows import names_of
from wise_tally.web.nodes import node_of
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelDeal, PanelTerm

RATIOS = (
    "quota",
    "gap",
    "coverage",
    "attainment",
    "call",
    "pace",
    "to_date",
    "chance",
    "chance_seen",
    "lost_share",
    "win_rate",
    "mean_won",
)
# Numbers of deals and another weighing rest on the deals of a figure of money.
RESTS_ON = {"deals_won": "won", "deals_open": "open", "deals_lost": "lost", "seen": "weighted"}


@dataclass(frozen=True)
class Place:
    """The row whose figure is opened."""

    asked: ForecastQuery
    by: str
    node: int
    row: ForecastRow

    @property
    def attained(self) -> AttainmentRow:
        """The row with its pace."""
        line = self.asked.line
        of_row = row_targets(line.book, self.asked.snapshot, line.period, line.scope, self.by, to_date=True)
        return AttainmentRow(self.row, of_row(self.node))

    def written(self, minor: int | None) -> str:
        """A value of the measure in its unit."""
        return str(UNITS[self.asked.measure](minor))


def counted_snapshot(asked: ForecastQuery, figure: str) -> BookAsOf:
    """The snapshot that a figure counts: with what was seen of stages where it says so."""
    line = asked.line
    return observed_snapshot(line.book, asked.snapshot, line.period) if figure == "seen" else asked.snapshot


def panel(asked: ForecastQuery, figure: str, token: str) -> Panel:
    """The panel of a figure of a node; raises Refused for figures or nodes that do not exist."""
    line = asked.line
    reference = line.book.reference
    allowed = [*FIGURES, *RATIOS, *RESTS_ON, *(f"category:{i}" for i in range(len(reference.categories)))]
    one_of(figure, allowed, "is not a figure of the forecast", 404)
    try:
        by, node = node_of(line.book, token, line.as_of)
    except (LookupError, UnknownBreakdown):
        raise Refused(
            f"“{token[:60]}” names no row; accepted: company:, team:ID, person:ID, territory:ID.", 404
        ) from None
    index = Place(asked, by, node, _row(asked, by, node))
    found = _derived(figure, index) if figure in RATIOS else _panel_of_deals(figure, index)
    return found if asked.is_plain else replace(found, note=f"{found.note} {_of_measure(asked)}".strip())


def _of_measure(asked: ForecastQuery) -> str:
    said = f"Deals count for their {MEASURE_WORDS[asked.measure]}" if asked.measure != AMOUNT else "Deals count"
    return f"{said} in the period of their {BASIS_WORDS[asked.basis]}."


def _row(asked: ForecastQuery, by: str, node: int) -> ForecastRow:
    line = asked.line
    every = forecast(line.book, asked.snapshot, line.period, line.scope, by, calls=True)
    found = next((row for row in every if row.node == node), None)
    if found is None:
        raise Refused("This row does not exist in this scope; open the figure from the page again.", 404)
    return found


def _panel_of_deals(figure: str, index: Place) -> Panel:
    line, measured = index.asked.line, RESTS_ON.get(figure, figure)
    snapshot = counted_snapshot(index.asked, figure)
    found = forecast_working(line.book, snapshot, line.period, line.scope, measured, index.by, index.node)
    return _panel_of_money(index, figure, found)


def _panel_of_money(index: Place, figure: str, found: Working) -> Panel:
    line, written = index.asked.line, index.written
    reference = line.book.reference
    terms = []
    for term in found.terms:
        stage = reference.stages[term.stage]
        process = reference.processes[stage.process][1] if len(reference.processes) > 1 else ""
        name = f"{stage.name}, {process}" if process else stage.name
        number = f"{term.deals} deal{'s' if term.deals != 1 else ''}"
        text = f"{name}, {number}"
        if term.probability_bp is not None:
            text = f"{name} {points(term.probability_bp)} × {written(term.amount_minor)}, {number}"
        terms.append(PanelTerm(text, str(term.deals) if figure.startswith("deals_") else written(term.value_minor)))
    first = found.counted[:FIRST_DEALS]
    keys = [line.book.deals.key[deal.deal] for deal in first]
    names = names_of(line.book, [deal.deal for deal in first])
    rest = found.counted[FIRST_DEALS:]
    counted = len({deal.deal for deal in found.counted})
    return Panel(
        title=f"{words.label(figure, reference)}, {index.row.name or 'without one'}",
        definition=words.definition(figure, reference),
        terms=tuple(terms),
        total=str(counted) if figure.startswith("deals_") else written(found.value_minor),
        total_words=words.label(figure, reference).lower(),
        deals=tuple(PanelDeal(k, names.get(k, k), written(d.value_minor)) for k, d in zip(keys, first, strict=True)),
        counted=counted,
        folded=len(rest),
        folded_value=written(sum(d.value_minor for d in rest)),
        not_counted=tuple(
            (words.reason(code, category, reference), deals) for code, category, deals in found.not_counted
        ),
    )


Terms = list[tuple[str, str]]


def _derived(figure: str, index: Place) -> Panel:
    reference, row, written = index.asked.line.book.reference, index.row, index.written
    terms = {
        "quota": _quota_terms,
        "gap": lambda p: [("quota", written(row.quota)), ("− won", written(row.won))],
        "coverage": lambda p: [("open", written(row.open)), ("÷ gap", written(row.gap))],
        "attainment": lambda p: [("won", written(row.won)), ("÷ quota", written(row.quota))],
        "call": _call_terms,
        "pace": _pace_terms,
        "to_date": lambda p: [("won", written(row.won)), ("÷ pace", written(p.attained.pace))],
        "chance": _chance_terms,
        "chance_seen": _chance_terms,
        "lost_share": lambda p: _shares("deals lost", row.deals_lost, row),
        "win_rate": lambda p: _shares("deals won", row.deals_won, row),
        "mean_won": lambda p: [("won", written(row.won)), ("÷ deals won", count(row.deals_won))],
    }[figure](index if figure != "chance_seen" else replace(index, asked=_weighted_by_observed(index.asked)))
    totals = {
        "quota": written(row.quota),
        "gap": written(row.gap),
        "coverage": times(row.coverage),
        "attainment": percent(row.attainment),
        "call": written(row.call),
        "pace": written(index.attained.pace),
        "to_date": percent(index.attained.to_date),
        "lost_share": percent(lost_share(row)),
        "win_rate": percent(won_share(row)),
        "mean_won": written(divide_half_even(row.won, row.deals_won) if row.deals_won else None),
    }
    total = totals.get(figure) or terms.pop()[1]
    note = (
        ""
        if row.quota is not None or figure in ("call", "lost_share", "win_rate", "mean_won")
        else "No quota holds for this row and period, so there is none."
    )
    return Panel(
        title=f"{words.label(figure, reference)}, {row.name or 'without one'}",
        definition=words.definition(figure, reference),
        terms=tuple(PanelTerm(name, str(value)) for name, value in terms),
        total=str(total),
        total_words=words.label(figure, reference).lower(),
        note=note,
    )


def _shares(words: str, part: int, row: ForecastRow) -> Terms:
    return [(words, count(part)), ("÷ deals won or lost", count(row.deals_lost + row.deals_won))]


def _quota_terms(index: Place) -> Terms:
    target, written = index.row.target, index.written
    terms = [("own quota, as set", written(target.own)), ("sum of the parts’ quotas", written(target.of_parts))]
    if target.difference is not None:
        terms.append(("difference", written(target.difference)))
    return terms


def _call_terms(index: Place) -> Terms:
    line = index.asked.line
    reference = line.book.reference
    subject = (index.by, NONE if index.by == "company" else index.node)
    if index.by == MEMBER:
        subject = ("person", person_of_node(line.book, line.snapshot)(index.node))
    call = calls_in_force(reference, line.as_of, line.period).get(subject)
    if call is not None:
        return [(f"called by {reference.people[call.made_by].name}", index.written(call.amount_minor))]
    return [("weighted, for comparison", index.written(index.row.weighted))]


def _pace_terms(index: Place) -> Terms:
    share = ratio(index.attained.pace or 0, index.row.quota)
    return [
        ("quota of the whole period", index.written(index.row.quota)),
        ("share due by the as-of day", percent(share)),
    ]


def _weighted_by_observed(asked: ForecastQuery) -> ForecastQuery:
    line = asked.line
    return replace(asked, line=replace(line, snapshot=observed_snapshot(line.book, line.snapshot, line.period)))


def _chance_terms(index: Place) -> Terms:
    line, written = index.asked.line, index.written
    lines = forecast_lines(line.book, index.asked.snapshot, line.period, line.scope, "company")
    if index.asked.decided[0]:
        return _either_way_terms(index, lines)
    found = outcome_of_lines(lines)
    if index.asked.part is not None:
        part = bins_of(found)[index.asked.part]
        ends = [("outcomes from", written(part.from_minor)), ("up to", written(part.to_minor))]
        return [*ends, ("", percent(part.chance, 2))]
    terms = [("won so far", written(found.won_minor)), ("quota", written(index.row.quota))]
    terms += [(f"P{q}: {q} % of outcomes are at most", written(found.quantile(q / 100))) for q in (10, 50, 90)]
    return [*terms, ("step of the grid", written(found.step_minor)), ("", percent(found.chance_of(index.row.quota)))]


def _either_way_terms(index: Place, lines: ForecastLines) -> Terms:
    """The chance of quota if one deal is won, or is not."""
    outcome, key = index.asked.decided
    book, snapshot = index.asked.line.book, index.asked.snapshot
    won, rows, amount = stakes(lines)
    keys = [book.deals.key[int(deal)] for deal in snapshot.deal[rows]]
    if key not in keys:
        raise Refused(f"“{key[:60]}” is no open deal of this period; accepted: one that the page lists.", 404)
    found = outcome_either_way(won, amount, snapshot.probability_bp[rows], [keys.index(key)], index.row.quota)
    name = names_of(book, [book.index_by_key[key]]).get(key, key)
    fate = "is won" if outcome == "won" else "is not won"
    terms = [
        ("chance as it is", percent(found.whole.chance_of(index.row.quota))),
        ("quota", index.written(index.row.quota)),
    ]
    terms.append((f"amount of {name}", index.written(int(amount[keys.index(key)]))))
    chance = found.chances[0][0 if outcome == "won" else 1]
    return [*terms, (f"if it {fate}, the others as they are", percent(chance)), ("", percent(chance))]
