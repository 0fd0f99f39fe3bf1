"""How close forecasts came: commit against outcome, slips, submitted against outcome, over the last periods, by rep."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.answers.forecast import of_accuracy
from wise_tally.core.backtest import CHECKPOINTS
from wise_tally.core.calendar import Period
from wise_tally.core.forecast_accuracy import RecordsTogether, rep_records
from wise_tally.domain.formats import count, money, percent
from wise_tally.pages.forecast.accuracy_chart import accuracy_chart, error_bars
from wise_tally.pages.forecast.back_test import SHORT, back_test_of, back_test_sheet, is_quick
from wise_tally.web.answers import answer_sentence
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.page_query import PageQuery, choice
from wise_tally.web.paging import paged
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, panel_response

PERIODS = 6
MEASURES = ("commit", "commit_won", "slip_rate", "call_error")
# What may stand side by side for each period, in words.
BY_PERIOD = {"commit_won": "commit won", "slip_rate": "slipped", "call_error": "over-forecast"}


@dataclass(frozen=True)
class PersonRecord:
    """A person with the records of the last periods and what they come to together."""

    key: str
    name: str
    together: RecordsTogether


def read_records(request: PageRequest) -> tuple[FilterLine, list[Period], list[PersonRecord]]:
    """Records of everybody in the scope for the last periods that are over, of the kind that the filter line has."""
    line = read_scope(request)
    fiscal = line.book.reference.fiscal
    kind = line.period.kind if line.period.kind in ("month", "quarter", "year") else "quarter"
    last = fiscal.containing(line.as_of, kind)
    periods = [fiscal.shifted(last, -step) for step in range(1, PERIODS + 1)]
    tables = [rep_records(line.book, line.snapshot, period, line.scope) for period in periods]
    people = sorted({person for table in tables for person in table}, key=lambda i: line.book.reference.people[i].name)
    records = []
    for person in people:
        record = line.book.reference.people[person]
        own = tuple(table[person] for table in tables if person in table)
        records.append(PersonRecord(record.key, record.name, RecordsTogether(own)))
    return line, periods, records


@dataclass(frozen=True)
class AccuracyQuery(PageQuery):
    """The figure that is followed period by period."""

    each: str = choice(BY_PERIOD, "commit_won")
    backtest: str = choice(("", "yes"))


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Who keeps what is committed, who slips, who calls too much."""
    line, periods, records = read_records(request)
    query = AccuracyQuery.read(line, request.GET)
    shown, turned = paged(request, records, query.query())
    due = sum(own.due for record in records for own in record.together.periods)
    answer = {
        **turned,
        **_together(line, periods, records),
        "periods": [period_words(period) for period in periods],
        "people": [
            (one, _cells(one, periods, query.each), error_bars(_cells(one, periods, "call_error"))) for one in shown
        ],
        **_tested(query, periods[0].kind),
        "each": BY_PERIOD[query.each],
        "each_working": reverse("forecast:accuracy-working", args=[query.each]),
        "each_links": query.links("each", BY_PERIOD),
        "footer": Footer(due, exports=exports("forecast:accuracy-table", line.query())),
    }
    return render(request, "forecast/accuracy.html", answer)


def _together(line: FilterLine, periods: Sequence[Period], records: Sequence[PersonRecord]) -> dict[str, Any]:
    """Everybody's records by period: in a sentence, as rows and as a picture."""
    whole = by_period(periods, records)
    everybody = RecordsTogether(tuple(own for record in records for own in record.together.periods))
    errors = [(one.name, error) for one in records if (error := one.together.call_error) is not None]
    over = sum(bool(together.periods) for together in whole)
    return {
        "answer_sentence": answer_sentence(of_accuracy(everybody.call_error, over, periods[0].kind, errors), {}),
        "whole": [*zip(map(period_words, periods), whole, strict=True)],
        "chart": accuracy_chart(line, periods, whole) if everybody.submitted else None,
    }


def _tested(query: "AccuracyQuery", kind: str) -> dict[str, Any]:
    """The test of past periods, at once where it is quick, else where it is asked for."""
    tests = bool(query.backtest) or is_quick(query.line)
    return {
        "tested": back_test_of(query.line, kind) if tests else None,
        "may_test": not tests,
        "test_query": query.query(backtest="yes"),
        "checkpoints": CHECKPOINTS,
        "methods": tuple(SHORT),
    }


def by_period(periods: Sequence[Period], people: Sequence[PersonRecord]) -> list[RecordsTogether]:
    """What everybody's records come to in each period."""
    records = [own for record in people for own in record.together.periods]
    return [RecordsTogether(tuple(own for own in records if own.period == period)) for period in periods]


def _cells(record: PersonRecord, periods: list[Period], figure: str) -> list[float | None]:
    """A figure of each period by itself, None where the period has none."""
    alone = {own.period: RecordsTogether((own,)) for own in record.together.periods}
    return [getattr(alone[period], figure) if period in alone else None for period in periods]


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """How a figure of somebody's record came about, period by period."""
    line, _, records = read_records(request)
    record = next((one for one in records if one.key == request.GET.get("person")), None)
    if figure not in MEASURES or record is None:
        raise Refused(f"“{figure[:40]}” is not on this page. Go back and open the figure again.", 404)
    back = f"{reverse('forecast:accuracy')}?{line.query()}"
    return panel_response(request, line, _panel(record, figure), back)


DEFINITIONS = {
    "commit": "Amount in “commit” due in the period, as of mid-period.",
    "commit_won": "Share of the amount in “commit” at mid-period that was won by the end of the period.",
    "slip_rate": "Of the deals due at mid-period, the share that was still open at the end with a later close date.",
    "call_error": "(Forecast submitted by the person at mid-period − won) ÷ won.",
}


def _panel(record: PersonRecord, figure: str) -> Panel:
    terms = []
    for own in record.together.periods:
        period = period_words(own.period)
        if figure == "commit":
            terms.append((period, money(own.commit)))
        elif figure == "commit_won":
            terms.append(
                (f"{period}: won {money(own.won_of_commit)} of commit {money(own.commit)}", percent(own.commit_won))
            )
        elif figure == "slip_rate":
            terms.append(
                (
                    f"{period}: {count(own.slipped)} of {count(own.due)} due deals slipped",
                    percent(own.slip_rate),
                )
            )
        elif own.submitted is not None:
            terms.append((f"{period}: submitted {money(own.submitted)}, won {money(own.won)}", money(own.call_error)))
    words = {
        "commit": "commit",
        "commit_won": "commit won",
        "slip_rate": "slipped",
        "call_error": "forecast too high by",
    }[figure]
    total = money(record.together.commit) if figure == "commit" else percent(getattr(record.together, figure))
    return Panel(
        f"{words.capitalize()}, {record.name}", DEFINITIONS[figure], tuple(PanelTerm(*t) for t in terms), total, words
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Every person and period as a file."""
    line, periods, records = read_records(request)
    if request.GET.get("table") == "back-test":
        return sheet_response(back_test_sheet(line, periods[0].kind), kind)
    rows = [
        (record.name, own.period.text, own.commit, own.won_of_commit, own.due, own.slipped, own.submitted, own.won)
        for record in records
        for own in record.together.periods
    ]
    header = ("person", "period", "commit", "won of commit", "due", "slipped", "submitted", "won")
    return sheet_response(
        Sheet("forecast accuracy", header, frozenset({"commit", "won of commit", "submitted", "won"}), rows), kind
    )
