"""The range of outcomes: the exact distribution with the set and with the seen probabilities, and what decides it."""

from dataclasses import dataclass

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.answers.forecast import of_outcome
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.money import Ints
from wise_tally.core.observed_weight import observed_probabilities
from wise_tally.core.outcome import Outcome, deciding, outcomes_set_and_observed, stakes
from wise_tally.pages.forecast.bins import Largest, bins_of, outcome_chart
from wise_tally.pages.forecast.tabs import tabs
from wise_tally.web.answers import say, span_of, workings
from wise_tally.web.deal_rows import DealRow, deal_rows, names_of
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node, whole_attainment
from wise_tally.web.request.viewing import PageRequest

MOST_DECIDING = 8


@dataclass(frozen=True)
class Side:
    """What one set of probabilities says, in minor units, and the figure whose working tells how."""

    words: str
    figure: str
    mean_minor: int
    p10: int
    p50: int
    p90: int
    chance: float | None


def _outcomes(line: FilterLine) -> tuple[Outcome, Outcome]:
    return outcomes_set_and_observed(line.book, line.snapshot, line.period, line.scope, scope_node(line)[0])


def _side(words: str, figure: str, found: Outcome, quota: int | None) -> Side:
    p10, p50, p90 = (found.quantile(q) for q in (0.1, 0.5, 0.9))
    return Side(words, figure, found.mean_minor, p10, p50, p90, found.chance_of(quota))


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Where the period may end, how likely the quota is, and the deals that decide it."""
    line = read_scope(request)
    lines = forecast_lines(line.book, line.snapshot, line.period, line.scope, scope_node(line)[0])
    quota = whole_attainment(line).forecast.quota
    as_set, as_observed = _outcomes(line)
    seen = observed_probabilities(line.book, line.snapshot, line.period)
    won, rows, amounts = stakes(lines)
    p10, p50, p90 = (as_set.quantile(q) for q in (0.1, 0.5, 0.9))
    told = of_outcome(span_of(line), as_set.chance_of(quota), p10, p50, p90, len(rows))
    node_query = f"{line.query()}&node={scope_node(line)[2]}"
    chance = f"{reverse('forecast:working', args=['chance'])}?{node_query}"
    bins, stages = bins_of(as_set), line.book.reference.stages
    hrefs = [f"{chance}&part={part}" for part in range(len(bins))]
    answer = {
        "line": line,
        "say": say(told, workings("forecast:working", node_query, "chance", "won")),
        "tabs": tabs(line, "range"),
        "quota": quota,
        "node": scope_node(line)[2],
        "won": won,
        "sides": [
            _side("at set probabilities", "chance", as_set, quota),
            _side("at actual win rates", "chance_seen", as_observed, quota),
        ],
        "bins": bins,
        "chart": outcome_chart(as_set, quota, hrefs, _largest(line, rows, amounts)) if len(rows) else None,
        "step": as_set.step_minor,
        "open_deals": len(rows),
        "deciding": _deciding(line, quota),
        "look_back": period_words(seen.look_back),
        "kept_set": [stages[stage].name for stage in sorted(seen.kept_set)],
        "footer": Footer(
            len(np.unique(lines.lines.rows[lines.deals_here])),
            exports=exports("forecast:range-table", line.query()),
        ),
    }
    return render(request, "forecast/range.html", answer)


def _largest(line: FilterLine, rows: Ints, amounts: Ints) -> Largest | None:
    """The largest open deal of the period, by the first part of its name; None where nothing is open."""
    if not len(rows):
        return None
    index = int(amounts.argmax())
    row = int(rows[index])
    deal = int(line.snapshot.deal[row])
    key = line.book.deals.key[deal]
    name = names_of(line.book, [deal]).get(key, key).split(", ")[0]
    return Largest(name, int(amounts[index]), int(line.snapshot.probability_bp[row]))


Deciding = tuple[DealRow, int, tuple[float | None, float | None]]


def _deciding(line: FilterLine, quota: int | None) -> list[Deciding]:
    """The largest open deals with what each brings and the chance of quota if it is won and if it is not."""
    one = deciding(line.book, line.snapshot, line.period, line.scope, scope_node(line)[0], quota, MOST_DECIDING)
    rows = deal_rows(line, one.rows)
    found = zip(one.rows, one.amount_minor, one.either_way.chances, strict=True)
    return [(rows[index], amount, chances) for index, amount, chances in found if index in rows]


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The drawn distribution, or the deals that decide the quota, as a table."""
    line = read_scope(request)
    sheets = {"": lambda: _bins_sheet(line), "deciding": lambda: _deciding_sheet(line)}
    return chosen_sheet(request, sheets, kind)


def _bins_sheet(line: FilterLine) -> Sheet:
    rows = [(b.from_minor, b.to_minor, round(b.chance, 6)) for b in bins_of(_outcomes(line)[0])]
    return Sheet("range", ("from", "to", "chance"), frozenset({"from", "to"}), rows)


def _deciding_sheet(line: FilterLine) -> Sheet:
    quota = whole_attainment(line).forecast.quota
    rows = [(row.name, amount, *chances) for row, amount, chances in _deciding(line, quota)]
    return Sheet("deciding deals", ("deal", "amount", "chance if won", "chance if lost"), frozenset({"amount"}), rows)
