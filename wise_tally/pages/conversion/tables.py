"""The tables of conversion as files, of exactly what its pages show."""

from dataclasses import astuple
from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_safe

from wise_tally.core.conversion import ConversionOptions
from wise_tally.core.exits import WAYS
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.time_in_stage import DaysToWin, days_to_win, time_in_stage
from wise_tally.pages.conversion.probability_check import read_back_test
from wise_tally.pages.conversion.query import ConversionQuery, RowsQuery
from wise_tally.pages.conversion.reliability import reliability_sheet
from wise_tally.pages.conversion.views import broken_down, exits_shown, passing, winning_months
from wise_tally.web.breakdowns import words_of
from wise_tally.web.files.tables import Sheet, chosen_sheet
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.request.viewing import PageRequest

WITHOUT = "without one"
LOSS = ("lost", "value lost", "still open", "value still open")
TIMES = {
    "km_median": "median",
    "km_p75": "75th percentile",
    "typical_days": "typical days",
    "stays": "entered",
    "completed": "left",
    "running": "in stage now",
    "running_mean_age": "average days so far",
    "overstaying": "stalled",
}
RATES = ("stage", "set", "actual", "low", "high", "won", "closed deals", "off")


@require_safe
def passing_table(request: PageRequest, kind: str) -> HttpResponse:
    """The stages, or the rows of the breakdown."""
    query = ConversionQuery.of(request)
    line, by, options = query.line, query.by, query.options
    sheets = {
        "": lambda: _stages(line, options),
        "rows": lambda: _passing_rows(line, options, by),
        "exits": lambda: _exits(line, options),
    }
    return chosen_sheet(request, sheets, kind)


def _stages(line: FilterLine, options: ConversionOptions) -> Sheet:
    rows = [
        (
            *(row.name, row.reached, row.value, row.step, row.from_start),
            *(astuple(row.loss)[: len(LOSS)] if row.loss else (None,) * len(LOSS)),
        )
        for row in passing(line, options)[2]
    ]
    header = ("stage", "reached", "value", "step", "from start", *LOSS)
    return Sheet("stage conversion", header, frozenset({"value", "value lost", "value still open"}), rows)


def _passing_rows(line: FilterLine, options: ConversionOptions, by: str) -> Sheet:
    members, _, stages = passing(line, options)
    rows = [
        (
            group.name or WITHOUT,
            *(stage.reached for stage in group.stages),
            *(group.totals.undecided, group.totals.win_rate_of_created, group.totals.win_rate_of_closed),
        )
        for group in broken_down(line, members, options, by)
    ]
    header = (
        words_of(by),
        *(row.name for row in stages),
        "still open",
        f"win rate, {options.basis}",
        "win rate, closed deals",
    )
    return Sheet("conversion rows", header, frozenset(), rows)


def _exits(line: FilterLine, options: ConversionOptions) -> Sheet:
    money = ("value", *(f"{way} value" for way in WAYS))
    rows = [
        (
            row.name,
            row.stays,
            *(stays for _, stays, _, _ in row.ways),
            row.minor,
            *(minor for _, _, minor, _ in row.ways),
        )
        for row in exits_shown(line, options)
    ]
    return Sheet("where deals went", ("stage", "left the stage", *WAYS, *money), frozenset(money), rows)


@require_safe
def time_table(request: PageRequest, kind: str) -> HttpResponse:
    """Time in stage by row and stage, days to win, or days to win by month closed."""
    query = ConversionQuery.of(request)
    line, by, per_deal = query.line, query.by, query.per_deal
    scope = (line.book, line.snapshot, line.period, line.scope)
    won = [(row.name or WITHOUT, row) for row in days_to_win(*scope, by) if row.deals]
    sheets = {
        "": lambda: _times(line, by, per_deal),
        "won": lambda: _days_to_win(words_of(by), won),
        "months": lambda: _days_to_win("month", [(words, row) for words, _, row in winning_months(line)]),
    }
    return chosen_sheet(request, sheets, kind)


def _times(line: FilterLine, by: str, per_deal: bool) -> Sheet:
    stages = line.book.reference.stages
    rows = [
        (group.name or WITHOUT, stages[stage.stage].name, *(getattr(stage, name) for name in TIMES))
        for group in time_in_stage(line.book, line.snapshot, line.period, line.scope, by, per_deal)
        if any(stage.stays or stage.running for stage in group.stages)
        for stage in group.stages
    ]
    return _of_rows("time in stage", by, ("stage", *TIMES.values()), rows)


def _of_rows(name: str, by: str, header: tuple[str, ...], rows: list[tuple[Any, ...]]) -> Sheet:
    """A sheet whose first column is the row of the breakdown; without a breakdown it has no such column."""
    if by == "company":
        return Sheet(name, header, frozenset(), [row[1:] for row in rows])
    return Sheet(name, (words_of(by), *header), frozenset(), rows)


def _days_to_win(head: str, rows: list[tuple[str, DaysToWin]]) -> Sheet:
    cells = [(name, row.deals, row.median, row.mean) for name, row in rows]
    return Sheet("days to win", (head, "deals won", "median days", "average days"), frozenset(), cells)


@require_safe
def probability_check_table(request: PageRequest, kind: str) -> HttpResponse:
    """Set probabilities and actual win rates of the whole, by row of the breakdown, or what the back-test found."""
    query = RowsQuery.of(request)
    line, by = query.line, query.by
    sheets = {
        "": lambda: _of_rows("probability check", "company", RATES, _rates(line, "company")),
        "rows": lambda: _of_rows("probability check by row", by, RATES, _rates(line, by)),
        "guesses": lambda: _guesses(line),
        "scores": lambda: _scores(line),
        "tenths": lambda: reliability_sheet(line),
    }
    return chosen_sheet(request, sheets, kind)


def _rates(line: FilterLine, by: str) -> list[tuple[Any, ...]]:
    stages, rows = line.book.reference.stages, []
    for group in probability_check(line.book, line.snapshot, line.period, line.scope, by):
        for rate in group.stages:
            low, high = (rate.interval.low, rate.interval.high) if rate.interval else (None, None)
            values = (rate.set_rate, rate.observed, low, high, rate.won, rate.decided, rate.off)
            rows.append((group.name or WITHOUT, stages[rate.stage].name, *values))
    return rows


def _guesses(line: FilterLine) -> Sheet:
    rows = [
        (period_words(guess.period), guess.words, guess.on.isoformat(), guess.as_set, guess.as_observed, guess.won)
        for guess in read_back_test(line).guesses
    ]
    header = ("period", "forecast", "on", "with set probabilities", "with actual rates", "actually won")
    return Sheet("back-test", header, frozenset(header[3:]), rows)


def _scores(line: FilterLine) -> Sheet:
    stages = line.book.reference.stages
    rows = [
        (stages[score.stage].name, score.deals, score.as_set, score.as_observed)
        for score in read_back_test(line).scores
    ]
    return Sheet("Brier scores", ("stage", "closed deals", "set", "actual"), frozenset(), rows)
