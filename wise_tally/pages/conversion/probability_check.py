"""Set probabilities beside actual win rates, the back-test, and adopting the actual ones."""

from dataclasses import dataclass
from datetime import date
from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.core.answers.conversion import of_probability_check
from wise_tally.core.backtest import BackTest, back_test
from wise_tally.core.effect import effect_of, quarters_moved
from wise_tally.core.observed_rates import ObservedRate, decided_in, probability_check
from wise_tally.core.statistics import ENOUGH_WITH_HISTORY
from wise_tally.core.what_if import WhatIf, stage_changes, supposed
from wise_tally.domain.deals.what_if_actions import adopt_probabilities
from wise_tally.domain.formats import count, money, percent, plural, score
from wise_tally.domain.formats import day as shown_day
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.pages.conversion.calibration_chart import calibration_chart
from wise_tally.pages.conversion.query import RowsQuery, line_of, stage_asked
from wise_tally.pages.conversion.reliability import reliability
from wise_tally.web.answers import answer_sentence
from wise_tally.web.files.tables import exports
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node
from wise_tally.web.page_query import choice
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

# A whole year, so that every season counts once.
PAST_PERIODS = 4


@dataclass(frozen=True)
class CheckQuery(RowsQuery):
    """The page, with the back-test where it is asked for."""

    backtest: str = choice(("", "yes"))


@dataclass(frozen=True)
class ObservedRow:
    """A stage with its rate."""

    key: str
    name: str
    rate: ObservedRate


def _rows(line: FilterLine, rates: tuple[ObservedRate, ...]) -> list[ObservedRow]:
    stages = line.book.reference.stages
    return [ObservedRow(stages[rate.stage].key, stages[rate.stage].name, rate) for rate in rates]


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def page(request: PageRequest) -> HttpResponse:
    """Set and actual by stage; what adopting would do is shown before it is done."""
    query = CheckQuery.of(request)
    line = query.line
    rows = _rows(line, probability_check(line.book, line.snapshot, line.period, line.scope)[0].stages)
    chosen, wrong = _chosen(request, rows)
    if request.method == "POST" and chosen and not wrong and "confirmed" in request.POST:
        return _adopt(request, line, chosen)
    answer = {
        **_compared(query, rows),
        **query.rows_chosen,
        "chosen": chosen,
        "from_on": request.POST.get("from_on", ""),
        "starts": _day(request) if request.POST.get("from_on") else None,
        "effect": _effect(line, chosen) if chosen and not wrong else None,
        "wrong": wrong,
        "may_set": request.viewer.may(May.SET_RULES) and not line.is_past,
        **(_tested(line) if query.backtest else {}),
    }
    return render(request, "conversion/probability_check.html", answer, status=422 if wrong else 200)


def _compared(query: CheckQuery, rows: list[ObservedRow]) -> dict[str, Any]:
    """Stages with their set and actual win rates: in a sentence, as a picture, in all and by the breakdown."""
    line, by, opens = query.line, query.by, f"{reverse('conversion:probability-check-working')}?{query.query()}"
    groups = probability_check(line.book, line.snapshot, line.period, line.scope, by) if by != "company" else ()
    decided = sum(row.rate.decided for row in rows[:1])
    return {
        "answer_sentence": answer_sentence(of_probability_check([_judged(row) for row in rows]), {}),
        "rows": rows,
        "chart": calibration_chart([(row.name, row.rate, f"{opens}&stage={row.key}") for row in rows]),
        "test_query": query.query(backtest="yes"),
        "off": [row.name for row in rows if row.rate.off],
        "groups": [(group.key or "", group.name, _rows(line, group.stages)) for group in groups],
        "footer": Footer(decided, exports=exports("conversion:probability-check-table", query.query())),
    }


def _judged(row: ObservedRow) -> tuple[str, bool | None, float, float | None]:
    """A stage for the answer: off or in line, None with too few deals."""
    enough = row.rate.interval is not None and row.rate.decided >= ENOUGH_WITH_HISTORY
    return row.name, row.rate.off if enough else None, row.rate.set_rate, row.rate.observed


def _chosen(request: PageRequest, rows: list[ObservedRow]) -> tuple[dict[str, int], str]:
    """Stages whose actual rate is to be adopted, in basis points; and what is wrong with the choice."""
    if request.method != "POST":
        return {}, ""
    wanted = request.POST.getlist("stage")
    rates = {row.key: row.rate.observed_bp for row in rows if row.key in wanted and row.rate.observed_bp is not None}
    if not rates or len(rates) < len(wanted):
        return {}, "Select at least one stage that has an actual win rate."
    if _day(request) is None:
        return (
            {},
            f"“{request.POST.get('from_on', '')[:40]}” is not a valid date. Enter today or a later date, or leave it empty for today.",
        )
    return rates, ""


def _day(request: PageRequest) -> date | None:
    """The day from which the adopted probabilities hold; None where it is past or no date."""
    text, first = request.POST.get("from_on", "").strip(), today()
    day = typed_day(text) if text else first
    return day if isinstance(day, date) and day >= first else None


@dataclass(frozen=True)
class AdoptEffect:
    """What adopting would do now: open deals that are weighted differently, the weighted pipeline, and the quarters that move."""

    deals_moved: int
    weighted_before: int
    weighted_after: int
    quarters: list[tuple[str, int, int]]


def _effect(line: FilterLine, chosen: dict[str, int]) -> AdoptEffect:
    stages = {stage.key: index for index, stage in enumerate(line.book.reference.stages)}
    what_if = WhatIf(stages={stages[key]: probability for key, probability in chosen.items()})
    effect = effect_of(line.book, line.snapshot, stage_changes(line.book, line.snapshot, what_if))
    moved = quarters_moved(line.book, line.snapshot, supposed(line.book, line.snapshot, what_if))
    quarters = [(period_words(one.period), one.before_minor, one.after_minor) for one in moved]
    return AdoptEffect(effect.deals_moved, effect.weighted_before, effect.weighted_after, quarters)


def _adopt(request: PageRequest, line: FilterLine, chosen: dict[str, int]) -> HttpResponse:
    day = _day(request)
    assert day is not None
    changed = adopt_probabilities(request.viewer, chosen, day, now())
    messages.success(
        request,
        f"{plural(changed, 'probability')} set from {shown_day(day)}. Past dates keep the old values.",
    )
    return redirect(f"{reverse('conversion:probability-check')}?{line.query()}")


def read_back_test(line: FilterLine) -> BackTest:
    """The last periods that are over."""
    fiscal = line.book.reference.fiscal
    present = fiscal.containing(line.as_of, "quarter")
    periods = tuple(fiscal.shifted(present, -step) for step in range(1, PAST_PERIODS + 1))
    return back_test(line.book, line.snapshot, periods, line.scope)


SIDES = {"as_set": "set", "as_observed": "seen"}
SIDE_WORDS = {"set": "set probabilities", "seen": "actual rates"}
TESTS = tuple(f"{what}-{name}" for what in ("error", "bias", "score") for name in SIDES.values())


def _minor(mean: float | None) -> int | None:
    return None if mean is None else round(mean)


def _test_panel(line: FilterLine, figure: str, stage: str) -> Panel:
    """How an error, a bias or a score of the back-test came about."""
    test, (what, _, name) = read_back_test(line), figure.partition("-")
    side = next(key for key, words in SIDES.items() if words == name)
    if what == "score":
        stages = line.book.reference.stages
        one = next((one for one in test.scores if stages[one.stage].key == stage), None)
        if one is None:
            raise Refused(f"“{stage[:60]}” has no Brier score. Choose a stage from the list.", 404)
        base = PanelTerm("open deals at the checkpoints that have closed since", count(one.deals))
        text = "Average of (probability − outcome)² over these deals; outcome is 1 for won, 0 for lost. 0 is perfect."
        return Panel(
            f"Brier score, {name}, {stages[one.stage].name}", text, (base,), score(getattr(one, side)), "score"
        )
    terms = tuple(
        PanelTerm(
            f"{period_words(g.period)} {g.words}: {money(getattr(g, side))} for {money(g.won)}", money(g.off_by(side))
        )
        for g in test.guesses
    )
    text = "Forecast − actually won, average over all dates checked"
    text += "; of its size, whatever the sign." if what == "error" else "; negative means the forecast was too low."
    return Panel(f"Average {what}, {name}", text, terms, money(_minor(getattr(test, what)(side))), f"average {what}")


@require_safe
def test_working(request: PageRequest, figure: str) -> HttpResponse:
    """The working of a figure of the back-test."""
    line = line_of(request)
    one_of(figure, TESTS, "is not a figure of the back-test", 404)
    panel = _test_panel(line, figure, stage_asked(request, line))
    return panel_response(
        request, line, panel, f"{reverse('conversion:probability-check')}?{line.query()}&backtest=yes"
    )


def _tested(line: FilterLine) -> dict[str, Any]:
    """The back-test as the page draws it, each guess with the addresses of its workings."""
    test = read_back_test(line)
    errors = [
        (f"average {what}, {SIDE_WORDS[name]}", _minor(getattr(test, what)(side)), f"{what}-{name}")
        for side, name in SIDES.items()
        for what in ("error", "bias")
    ]
    node = scope_node(line)[2]
    guesses = [
        (
            period_words(guess.period),
            guess,
            line.query(period=guess.period.text, as_of=guess.on.isoformat(), process=line.process_value)
            + f"&node={node}",
            line.query(period=guess.period.text, process=line.process_value) + f"&node={node}",
        )
        for guess in test.guesses
    ]
    stages = line.book.reference.stages
    scores = [(stages[score.stage].key, stages[score.stage].name, score) for score in test.scores]
    return {"back_test": test, "errors": errors, "guesses": guesses, "scores": scores, "tenths": reliability(line)}


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """The working of a stage's actual win rate."""
    query = RowsQuery.of(request)
    line, by = query.line, query.by
    key, row = stage_asked(request, line), request.GET.get("row", "")
    groups = probability_check(line.book, line.snapshot, line.period, line.scope, by)
    group = next((g for g in groups if (g.key or "") == row), None)
    stages = line.book.reference.stages
    rate = next((r for r in group.stages if stages[r.stage].key == key), None) if group else None
    if group is None or rate is None:
        raise Refused(f"“{key[:60]}” has no actual win rate in this row. Choose another stage.", 404)
    return panel_response(
        request,
        line,
        _panel(line, by, group.node, group.name, rate),
        f"{reverse('conversion:probability-check')}?{line.query()}",
    )


def _panel(line: FilterLine, by: str, node: int, name: str | None, rate: ObservedRate) -> Panel:
    stage = line.book.reference.stages[rate.stage]
    rows = decided_in(line.book, line.snapshot, line.period, line.scope, rate.stage, (by, node))
    terms = [
        PanelTerm("won", count(rate.won)),
        PanelTerm("÷ closed deals that first reached it in the period", count(rate.decided)),
    ]
    if rate.interval:
        terms.append(
            PanelTerm("Likely range (95 %, Wilson)", f"{percent(rate.interval.low)} to {percent(rate.interval.high)}")
        )
    terms.append(PanelTerm("set", percent(rate.set_rate)))
    note = ""
    if rate.decided < ENOUGH_WITH_HISTORY:
        note = f"Fewer than {ENOUGH_WITH_HISTORY} closed deals: too few to judge the set probability."
    elif rate.off:
        note = "The set probability is outside the likely range: it is too high or too low."
    words = [("won" if line.snapshot.probability_bp[index] else "lost") for index in rows[:FIRST_DEALS]]
    return Panel(
        title=f"Actual win rate from {stage.name}" + (f", {name or 'without one'}" if by != "company" else ""),
        definition="Of the deals that first reached the stage in the period and are closed, the share that was won. A "
        "skipped stage counts as reached when a later one is entered.",
        terms=tuple(terms),
        total=percent(rate.observed),
        total_words="seen",
        **listed(line, rows, words),
        note=note,
    )
