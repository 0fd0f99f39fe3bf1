"""Over time: win rate of closed, deals created, average size and velocity, each against the period before."""

from collections.abc import Callable
from datetime import date
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_safe

from wise_tally.core.answers.conversion import of_monthly_trend
from wise_tally.core.calendar import Period
from wise_tally.core.lines import owner_filtered
from wise_tally.core.monthly_trend import SpanFigures, Velocity, deals_behind, mean_before, spans, usual, velocity
from wise_tally.core.same_days import is_over, same_days
from wise_tally.domain.formats import count, days, money, percent
from wise_tally.pages.conversion.month_chart import DRAWN, FOLLOWED, SHOWN, MonthCell, Series, month_chart
from wise_tally.pages.conversion.query import line_of
from wise_tally.web.answers import answer_sentence
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.footer import Footer
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, by_amount, panel_response

MONTHS = 36
# What is followed month by month: name, words, how it is written.


def months_of(line: FilterLine) -> tuple[Period, ...]:
    """The last months up to that of the as-of day."""
    fiscal = line.book.reference.fiscal
    present = fiscal.containing(line.as_of, "month")
    return tuple(fiscal.shifted(present, step) for step in range(1 - MONTHS, 1))


def _series(figures: tuple[SpanFigures, ...], as_of: date) -> list[Series]:
    series = []
    for name, words, shape in FOLLOWED:
        values = [getattr(figure, name) for figure in figures]
        marks, shown = usual(values, is_over(figures[-1].period, as_of)), values[-SHOWN:]
        cells = [MonthCell(value, mark) for value, mark in zip(shown, marks[-SHOWN:], strict=True)]
        series.append(Series(name, words, shape, cells))
    return series


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Two years month by month, and the velocity of the period against the one before."""
    line = line_of(request)
    months = months_of(line)
    figures = spans(line.book, line.snapshot, months, line.scope)
    series, deals = _series(figures, line.as_of), int(owner_filtered(line.book, line.snapshot, line.scope).sum())
    named = [(period_words(month), month.text) for month in months[-SHOWN:]]
    answer = {
        "answer_sentence": _answer(line, months, series),
        "series": series,
        "pictures": [(s, month_chart(line, s, figures), index) for index, s in enumerate(series) if s.name in DRAWN],
        "months": named,
        "table": [(*named[index], [s.cells[index] for s in series]) for index in reversed(range(len(named)))],
        **_velocity(line),
        "query": line.query(process=line.process_value),
        "footer": Footer(deals, exports=exports("conversion:over-time-table", line.query())),
    }
    return render(request, "conversion/over_time.html", answer)


def _velocity(line: FilterLine) -> dict[str, Any]:
    """Velocity of the period, that of the span before it, and both spans in words."""
    now, before = _velocities(line)
    spans_in_words = [span and period_words(span) for span in _spans_compared(line)]
    return {"velocity": now, "before": before, "spans": spans_in_words}


def _answer(line: FilterLine, months: tuple[Period, ...], series: list[Series]) -> SafeString:
    """What the last month that is over brought in new deals, and what was unusual in it, in one sentence."""
    last = -1 if is_over(months[-1], line.as_of) else -2
    new = [int(cell.value or 0) for cell in series[0].cells]
    unusual = [one.words for one in series if one.cells[last].stands_out]
    mean = mean_before(new, len(new) + last)
    return answer_sentence(of_monthly_trend(period_words(months[last]), new[last], mean, unusual), {})


def _spans_compared(line: FilterLine) -> tuple[Period, Period | None]:
    return same_days(line.book.reference.fiscal, line.period, line.as_of)


def _velocities(line: FilterLine) -> tuple[Velocity, Velocity | None]:
    """Of the period, and of the same days of the one before as the book stood at their end; none where none is compared."""
    present, earlier = _spans_compared(line)
    now = velocity(line.book, line.snapshot, present, line.scope)
    return now, velocity(line.book, line.book.as_of(earlier.ends_on), earlier, line.scope) if earlier else None


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """Velocity with its four factors, or what makes a month unusual."""
    line = line_of(request)
    back = f"{reverse('conversion:over-time')}?{line.query()}"
    if figure == "velocity":
        now, before = _velocities(line)
        shown = before if before and request.GET.get("side") == "before" else now
        return panel_response(request, line, _velocity_panel(shown), back)
    names = [name for name, *_ in FOLLOWED]
    months = months_of(line)
    index = next((i for i, month in enumerate(months) if month.text == request.GET.get("month")), None)
    if figure not in names or index is None:
        accepted = f"velocity, or one of {', '.join(names)} with a month of the page"
        raise Refused(f"“{figure[:40]}” is not on this page. Choose one of: {accepted}.", 404)
    return panel_response(request, line, _month_panel(line, figure, months, index), back)


def _velocity_panel(velocity: Velocity) -> Panel:
    terms = [
        ("open deals", count(velocity.open_deals)),
        ("× win rate of closed", percent(velocity.win_rate)),
        ("× average deal size won", money(None if velocity.mean_won is None else round(velocity.mean_won))),
        ("÷ average days to win", days(velocity.days_to_win)),
    ]
    text = "Sales per day the open deals would bring at this period’s win rate, deal size and days to win. "
    text += "All open deals of the selection count."
    total = money(None if velocity.per_day is None else round(velocity.per_day))
    return Panel("Sales velocity", text, tuple(PanelTerm(*term) for term in terms), total, "per day")


def _month_panel(line: FilterLine, name: str, months: tuple[Period, ...], index: int) -> Panel:
    figures = spans(line.book, line.snapshot, months, line.scope)
    shape, words = next((shape, words) for known, words, shape in FOLLOWED if known == name)
    values = [getattr(figure, name) for figure in figures]
    of_month, mark = figures[index], usual(values, is_over(months[-1], line.as_of))[index]
    parts = {
        "mean_created": [
            ("value of new deals", money(of_month.created_value)),
            ("÷ deals created", count(of_month.created)),
        ],
        "win_rate": [("won", count(of_month.won)), ("÷ won or lost", count(of_month.won + of_month.lost))],
        "mean_won": [("won", money(of_month.won_value)), ("÷ deals won", count(of_month.won))],
        "days_to_win": [("deals won", count(of_month.won))],
    }.get(
        name,
        [(f"deals created in {period_words(months[index])}", count(of_month.created))] if "created" in name else [],
    )
    terms = [PanelTerm(*part) for part in parts]
    note = "There are fewer than 12 earlier months, so unusual values are not marked."
    if not is_over(months[index], line.as_of):
        note = "The month is not over; it is compared with whole months when it is."
    if mark is not None:
        low, high = mark.median - mark.reach, mark.median + mark.reach
        terms.append(PanelTerm("median of the twelve months before", WRITTEN[shape](mark.median)))
        terms.append(PanelTerm("normal range from", WRITTEN[shape](low)))
        terms.append(PanelTerm("to", WRITTEN[shape](high)))
        note = "Normal range: median ± 3 × 1.4826 × median absolute deviation of the 12 months before."
        if values[index] is not None and mark.is_unusual(values[index]):
            note += " This month is outside the normal range."
    title = f"{words.capitalize()}, {period_words(months[index])}"
    definition = "Deals of this process, by current owner, in the month they were created or closed."
    rows = deals_behind(line.book, line.snapshot, months[index], line.scope, name)
    return Panel(
        title, definition, tuple(terms), WRITTEN[shape](values[index]), words, **by_amount(line, rows), note=note
    )


WRITTEN: dict[str, Callable[[Any], str]] = {
    "count": lambda value: "–" if value is None else f"{value:g}",
    "money": lambda value: money(None if value is None else round(value)),
    "percent": percent,
    "days": days,
}


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """All months as a file."""
    line = line_of(request)
    figures = spans(line.book, line.snapshot, months_of(line), line.scope)
    names = [name for name, *_ in FOLLOWED]
    rows = []
    for figure in figures:
        values = [getattr(figure, name) for name in names]
        rows.append(
            (figure.period.text, *(_plain(v, shape) for v, (_, _, shape) in zip(values, FOLLOWED, strict=True)))
        )
    money_words = frozenset(words for _, words, shape in FOLLOWED if shape == "money")
    header = ("month", *(words for _, words, _ in FOLLOWED))
    return sheet_response(Sheet("monthly trend", header, money_words, rows), kind)


def _plain(value: float | None, shape: str) -> float | None:
    return round(value) if value is not None and shape == "money" else value
