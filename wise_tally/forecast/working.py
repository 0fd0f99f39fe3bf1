"""The working of a forecast figure as a panel to draw; the core computes it with the figure's own lines."""

from wise_tally.core.calls import calls_in_force
from wise_tally.core.forecast import FIGURES, ForecastRow, forecast, forecast_lines
from wise_tally.core.members import forecast_members
from wise_tally.core.money import ratio
from wise_tally.core.outcome import outcome_of_lines
from wise_tally.core.targets import pace
from wise_tally.core.trees import NONE
from wise_tally.core.working import Working, forecast_working
from wise_tally.deals.models import Deal
from wise_tally.forecast import words
from wise_tally.forecast.grid import node_of
from wise_tally.scope.line import ScopeLine
from wise_tally.scope.panel import FIRST_DEALS, Panel, PanelDeal, PanelTerm
from wise_tally.ui.refusals import Refused
from wise_tally.ui.templatetags.figures import money, percent, points, times

RATIOS = ("quota", "gap", "coverage", "attainment", "call", "pace", "to_date", "chance")


def panel(line: ScopeLine, figure: str, token: str) -> Panel:
    """The panel of a figure of a node; raises Refused for figures or nodes that do not exist."""
    ground = line.book.ground
    allowed = [*FIGURES, *RATIOS, *(f"category:{i}" for i in range(len(ground.categories)))]
    if figure not in allowed:
        raise Refused(f"“{figure[:40]}” is not a figure of the forecast; accepted: {', '.join(allowed)}.", 404)
    try:
        by, node, person = node_of(line, token)
    except LookupError:
        raise Refused(
            f"“{token[:60]}” names no row; accepted: company:, team:ID, person:ID, territory:ID.", 404
        ) from None
    row = _row(line, by, node, person)
    if figure in RATIOS:
        return _derived(line, figure, row, (by, node, person))
    found = forecast_working(line.book, line.standing, line.period, line.scope, figure, by, node, person)
    return _panel_of_money(line, figure, row, found)


def _row(line: ScopeLine, by: str, node: int, person: int) -> ForecastRow:
    if by == "member":
        rows = forecast_members(line.book, line.standing, line.period, line.scope, calls=True)
        found = rows.get((node, person))
    else:
        every = forecast(line.book, line.standing, line.period, line.scope, by, calls=True)
        found = next((row for row in every if row.node == node), None)
    if found is None:
        raise Refused("This row does not exist in this scope; open the figure from the page again.", 404)
    return found


def _panel_of_money(line: ScopeLine, figure: str, row: ForecastRow, found: Working) -> Panel:
    ground = line.book.ground
    terms = []
    for term in found.terms:
        stage = ground.stages[term.stage]
        process = ground.processes[stage.process][1] if len(ground.processes) > 1 else ""
        name = f"{stage.name}, {process}" if process else stage.name
        text = f"{name}, {term.deals} deal{'s' if term.deals != 1 else ''}"
        if term.probability_bp is not None:
            text = f"{name} {points(term.probability_bp)} × {money(term.amount_minor)}, {term.deals} deal{'s' if term.deals != 1 else ''}"
        terms.append(PanelTerm(text, str(money(term.value_minor))))
    first = found.counted[:FIRST_DEALS]
    keys = [line.book.deals.key[deal.deal] for deal in first]
    names = dict(Deal.objects.filter(key__in=keys).values_list("key", "name"))
    rest = found.counted[FIRST_DEALS:]
    return Panel(
        title=f"{words.label(figure, ground)}, {row.name or 'without one'}",
        definition=words.definition(figure, ground),
        terms=tuple(terms),
        total=str(money(found.value_minor)),
        total_words=words.label(figure, ground).lower(),
        deals=tuple(PanelDeal(k, names.get(k, k), str(money(d.value_minor))) for k, d in zip(keys, first, strict=True)),
        counted=len({d.deal for d in found.counted}),
        folded=len(rest),
        folded_value=str(money(sum(d.value_minor for d in rest))),
        not_counted=tuple((words.reason(code, category, ground), deals) for code, category, deals in found.not_counted),
    )


def _derived(line: ScopeLine, figure: str, row: ForecastRow, place: tuple[str, int, int]) -> Panel:
    ground = line.book.ground
    terms = {
        "quota": _quota_terms,
        "gap": lambda *_: [("quota", money(row.quota)), ("− won", money(row.won))],
        "coverage": lambda *_: [("open", money(row.open)), ("÷ gap", money(row.gap))],
        "attainment": lambda *_: [("won", money(row.won)), ("÷ quota", money(row.quota))],
        "call": _call_terms,
        "pace": _pace_terms,
        "to_date": _to_date_terms,
        "chance": _chance_terms,
    }[figure](line, row, place)
    totals = {
        "quota": money(row.quota),
        "gap": money(row.gap),
        "coverage": times(row.coverage),
        "attainment": percent(row.attainment),
        "call": money(row.call),
    }
    total = totals.get(figure) or terms.pop()[1]
    note = (
        "" if row.quota is not None or figure == "call" else "No quota holds for this row and period, so there is none."
    )
    return Panel(
        title=f"{words.label(figure, ground)}, {row.name or 'without one'}",
        definition=words.definition(figure, ground),
        terms=tuple(PanelTerm(name, str(value)) for name, value in terms),
        total=str(total),
        total_words=words.label(figure, ground).lower(),
        note=note,
    )


def _quota_terms(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> list[tuple[str, str]]:
    target = row.target
    terms = [("own quota, as set", money(target.own)), ("sum of the parts’ quotas", money(target.of_parts))]
    if target.own is not None and target.of_parts is not None:
        terms.append(("difference", money(target.own - target.of_parts)))
    return terms


def _call_terms(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> list[tuple[str, str]]:
    by, node, person = place
    ground = line.book.ground
    subject = ("person", person) if by == "member" else (by, NONE if by == "company" else node)
    call = calls_in_force(ground, line.as_of, line.period).get(subject)
    if call is not None:
        return [(f"called by {ground.people[call.made_by].name}", money(call.amount_minor))]
    return [("weighted, for comparison", money(row.weighted))]


def _pace(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> int | None:
    by, node, person = place
    of_by, of_node = ("person", person) if by == "member" else (by, node)
    return pace(line.book.ground, line.as_of, line.period).of(of_by, of_node).value if row.quota is not None else None


def _pace_terms(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> list[tuple[str, str]]:
    value = _pace(line, row, place)
    share = ratio(value or 0, row.quota)
    return [
        ("quota of the whole period", money(row.quota)),
        ("share due by the as-of day", percent(share)),
        ("", money(value)),
    ]


def _to_date_terms(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> list[tuple[str, str]]:
    value = _pace(line, row, place)
    return [("won", money(row.won)), ("÷ pace", money(value)), ("", percent(ratio(row.won, value)))]


def _chance_terms(line: ScopeLine, row: ForecastRow, place: tuple[str, int, int]) -> list[tuple[str, str]]:
    found = outcome_of_lines(forecast_lines(line.book, line.standing, line.period, line.scope, "company"))
    terms = [("won so far", money(found.won_minor)), ("quota", money(row.quota))]
    terms += [(f"P{q}: {q} % of outcomes are at most", money(found.quantile(q / 100))) for q in (10, 50, 90)]
    return [*terms, ("step of the grid", money(found.step_minor)), ("", percent(found.chance_of(row.quota)))]
