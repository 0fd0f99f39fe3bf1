"""Pages of attainment: won against quota and pace, per row and through the year."""

from collections.abc import Sequence
from itertools import zip_longest
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.activity import BY as BY_PEOPLE
from wise_tally.core.activity import KINDS, METRIC
from wise_tally.core.answers.answer import Span
from wise_tally.core.answers.forecast import of_trend
from wise_tally.core.answers.results import of_attainment
from wise_tally.core.attainment import DaysOf
from wise_tally.core.breakdowns import OF_FORECAST
from wise_tally.core.row_targets import carries_quota
from wise_tally.domain.formats import as_words
from wise_tally.pages.attainment.grid import Place, name_of, places_of, rows_of
from wise_tally.pages.attainment.query import MEASURES, AttainmentQuery
from wise_tally.pages.attainment.working import panel_of
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.cumulative import Cumulative, cumulative, year_of
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node
from wise_tally.web.paging import paged
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import panel_response

FEW_ROWS = 9


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Quota, pace, won, what is still needed, of every node."""
    query = AttainmentQuery.of(request)
    places = places_of(query)
    shown, turned = paged(request, places, query.query())
    answer = {
        "page_query": query,
        "by": query.by,
        "by_words": words_of(query.by),
        **_choices(query),
        **_whole(query, places),
        "rows": rows_of(query, shown),
        **turned,
        "year": year_of(query.line).text,
        "carries": carries_quota(query.line.scope, query.by),
        "footer": _footer(query),
    }
    return render(request, "attainment/page.html", answer)


def _whole(query: AttainmentQuery, places: Sequence[Place]) -> dict[str, Any]:
    """The whole scope in a sentence and in figures; below a short table its year, which answers the next question too."""
    line, whole, token = query.line, query.whole, scope_node(query.line)[2]
    days, working = DaysOf.at(line.period, line.as_of), query.working(token)
    won, in_money = whole.forecast.won, not query.in_hundredths
    sentence = of_attainment(span_of(line), won, whole.pace, whole.forecast.quota, _behind(query, places), in_money)
    short = len(places) <= FEW_ROWS and not query.counts_activities
    return {
        "answer_sentence": answer_sentence(sentence, _opens(query, working)),
        "whole": whole,
        "whole_working": working,
        "needed": days.needed_per_week(whole.forecast.gap),
        "at_pace": days.at_todays_pace(won),
        "cumulative": _cumulative(query, token) if short else None,
    }


def _choices(query: AttainmentQuery) -> dict[str, Any]:
    """What the page lets choose."""
    by = {name: words_of(name) for name in BY_PEOPLE[1:]} if query.counts_activities else dict(choices(OF_FORECAST))
    return {
        "by_links": query.links("by", by),
        "measures": query.links("measure", MEASURES, kind=None),
        "kinds": query.links("kind", {name: as_words(name) or "all kinds" for name in ("", *KINDS)}),
    }


def _opens(query: AttainmentQuery, parameters: str) -> dict[str, str]:
    """Where the figures of the answer open their working: those of deals in the forecast, of activities here."""
    page = "attainment:working" if query.counts_activities else "forecast:working"
    return workings(page, parameters, "won", "to_date", "attainment", "gap")


def _cumulative(query: AttainmentQuery, token: str) -> Cumulative:
    """The fiscal year of the scope in the measure asked for."""
    return cumulative(query.line, query.snapshot, lambda span: query.working(token, span), not query.in_hundredths)


def _behind(query: AttainmentQuery, places: Sequence[Place]) -> list[tuple[str, int]]:
    """The rows that have none below them, with how far each is behind its target to date."""
    by_node = {row.forecast.node: row for row in query.rows(query.by)}
    ends = [one for one, after in zip_longest(places, places[1:]) if after is None or after[1] <= one[1]]
    records = [by_node[node] for node, *_ in ends]
    return [(name_of(query, record.forecast), record.behind) for record in records if record.behind is not None]


def _footer(query: AttainmentQuery) -> Footer:
    whole = query.whole.forecast
    return Footer(
        whole.won // 100 if query.counts_activities else whole.deals_won + whole.deals_open,
        undated=None if query.in_hundredths else whole.undated,
        overdue=None if query.in_hundredths else whole.overdue,
        exports=exports("attainment:table", query.query()),
        what="activity" if query.counts_activities else "deal",
    )


@require_safe
def year(request: PageRequest) -> HttpResponse:
    """Won so far against the target so far, month by month, with what is open on top."""
    query = AttainmentQuery.of(request)
    if query.counts_activities:
        query = AttainmentQuery(query.line, by=query.by)
    span, (by, node, token) = year_of(query.line), scope_node(query.line)
    whole = query.row(by, node, span)
    left = DaysOf.at(span, query.line.as_of).remaining
    sentence = of_trend(Span("year", left), whole.forecast.won, whole.pace, whole.forecast.quota)
    opens = workings("forecast:working", query.working(token, span), "won", "won_to_pace", "gap", "attainment")
    answer = {
        "answer_sentence": answer_sentence(sentence, opens),
        "page_query": query,
        "year": span.text,
        "cumulative": _cumulative(query, token),
        "whole": whole,
        "measures": query.links("measure", {name: words for name, words in MEASURES.items() if name != METRIC}),
        "footer": _footer(query),
    }
    return render(request, "attainment/year.html", answer)


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """How a figure that no deal alone explains came about: what is needed, what is done."""
    query = AttainmentQuery.of(request)
    panel = panel_of(query, figure, request.GET.get("node", "company:"))
    return panel_response(request, query.line, panel, f"{request.path.split('working')[0]}?{query.query()}")


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """Exactly what the table shows, as a file."""
    query = AttainmentQuery.of(request)
    header = ("name", "quota", "pace", "won", "attainment", "attainment to date", "gap", "open", "needed per week", "projected",
              "deals still needed", "rank")  # fmt: skip
    rows: list[tuple[Any, ...]] = []
    for row in rows_of(query):
        f, a = row.record.forecast, row.record
        values = (f.quota, a.pace, f.won, f.attainment, a.to_date, f.gap, f.open, row.needed_per_week, row.at_pace)
        rows.append((row.name, *values, row.deals_needed, row.rank))
    amounts = {"quota", "pace", "won", "gap", "open", "needed per week", "projected"}
    if query.in_hundredths:
        divided = [name in amounts for name in header]
        rows = [
            tuple(v / 100 if yes and v is not None else v for v, yes in zip(row, divided, strict=True)) for row in rows
        ]
    return sheet_response(
        Sheet("attainment", header, frozenset() if query.in_hundredths else frozenset(amounts), rows), kind
    )
