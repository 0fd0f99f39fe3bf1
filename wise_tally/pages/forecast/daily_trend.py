"""Through the period: won, categories, weighted and calls day by day against quota and pace; each day opens its book."""

from datetime import date

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.answers.forecast import of_trend
from wise_tally.pages.forecast.overview import number_included
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.day_by_day import day_by_day, trend_of
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.request.viewing import PageRequest


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The period day by day."""
    line = read_scope(request)
    shown = day_by_day(line, "trend")
    last = shown.days[-1] if shown.days else None
    sentence = of_trend(span_of(line), last.won if last else 0, shown.pace, shown.quota)
    node_query = f"{line.query()}&node={shown.node}"
    answer = {
        "answer_sentence": answer_sentence(
            sentence, workings("forecast:working", node_query, "won", "won_to_pace", "gap", "attainment")
        ),
        "shown": shown,
        "chart": shown.chart,
        "last": last,
        "footer": Footer(number_included(shown.lines), exports=exports("forecast:through-table", line.query())),
    }
    return render(request, "forecast/through.html", answer)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Every day of the period as CSV, XLSX or JSON."""
    line = read_scope(request)
    trend = trend_of(line)
    names = [category.name for category in line.book.reference.categories]
    rows = [
        (
            date.fromordinal(int(trend.days[i])).isoformat(),
            int(trend.won[i]),
            *trend.categories[:, i].tolist(),
            int(trend.weighted[i]),
        )
        for i in range(len(trend.days))
    ]
    header = ("day", "won", *names, "weighted")
    return sheet_response(Sheet("trend", header, frozenset(header[1:]), rows), kind)
