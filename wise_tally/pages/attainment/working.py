"""Workings of attainment that no list of deals explains: what is needed, at today's pace, activities done."""

import numpy as np

from wise_tally.core.activity import KINDS, activities_inside, done_by
from wise_tally.core.attainment import DaysOf, deals_needed, four_quarters_before, mean_won, won_share
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.domain.formats import as_words, count, hundredths, money, percent
from wise_tally.pages.attainment.grid import closed_by
from wise_tally.pages.attainment.query import AttainmentQuery
from wise_tally.web.activities_done import done_in
from wise_tally.web.filter_line import period_words
from wise_tally.web.nodes import node_of
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import Panel, PanelTerm

FIGURES = ("needed", "at_pace", "deals_needed", "won", "quota", "pace", "gap", "attainment", "to_date", "open")


def panel_of(query: AttainmentQuery, figure: str, token: str) -> Panel:
    """The panel of a figure of a node; raises Refused for what is not there."""
    one_of(figure, FIGURES, "is not a figure of attainment here", 404)
    try:
        by, node = node_of(query.line.book, token, query.line.as_of)
    except (LookupError, UnknownBreakdown):
        raise Refused(f"The row “{token[:60]}” does not exist. Go back and choose one from the page.", 404) from None
    record = query.row(by, node)
    name = record.forecast.name or "without one"
    if figure == "needed":
        return _needed(query, name, record.forecast.gap)
    if figure == "at_pace":
        return _at_pace(query, name, record.forecast.won)
    if figure == "deals_needed":
        return _deals_needed(query, name, record.forecast.gap, (by, node))
    if not query.counts_activities:
        raise Refused("This figure is explained on the Forecast page.", 404)
    return _activities(query, figure, (by, node))


def _written(query: AttainmentQuery, value: int | None) -> str:
    return str(hundredths(value) if query.in_hundredths else money(value))


def _terms(*terms: tuple[str, str]) -> tuple[PanelTerm, ...]:
    return tuple(PanelTerm(words, str(value)) for words, value in terms)


def _needed(query: AttainmentQuery, name: str, gap: int | None) -> Panel:
    days = DaysOf.at(query.line.period, query.line.as_of)
    return Panel(
        f"Needed per week, {name}",
        "Gap ÷ weeks left in the period (today not included).",
        _terms(("gap to quota", _written(query, gap)), ("× 7 ÷ days that remain", count(days.remaining))),
        _written(query, days.needed_per_week(gap)),
        "needed a week",
    )


def _at_pace(query: AttainmentQuery, name: str, won: int) -> Panel:
    days = DaysOf.at(query.line.period, query.line.as_of)
    return Panel(
        f"Projected at current pace, {name}",
        "Expected result if the rest of the period goes like the days so far: result so far ÷ share of days passed.",
        _terms(
            ("done so far" if query.counts_activities else "won so far", _written(query, won)),
            ("÷ days passed", count(days.passed)),
            ("× days of the period", count(query.line.period.days)),
        ),
        _written(query, days.at_todays_pace(won)),
        "at today’s pace",
    )


def _deals_needed(query: AttainmentQuery, name: str, gap: int | None, row: tuple[str, int]) -> Panel:
    line = query.line
    closed = closed_by(query, row[0]).get(row[1])
    span = four_quarters_before(line.book.reference.fiscal, line.as_of)
    if closed is None:
        raise Refused("No deals closed in the last four quarters.", 404)
    mean = mean_won(closed)
    return Panel(
        f"Deals still needed, {name}",
        "New deals needed to close the gap: gap ÷ average deal size won ÷ win rate of closed deals, rounded "
        "up. Needs at least 10 closed deals.",
        _terms(
            ("gap to quota", _written(query, gap)),
            (f"÷ average deal size won, {period_words(span)}", money(None if mean is None else round(mean))),
            ("÷ win rate of closed", percent(won_share(closed))),
            ("deals won", count(closed.deals_won)),
            ("deals lost", count(closed.deals_lost)),
        ),
        count(deals_needed(gap, closed)),
        "deals still needed",
    )


def _activities(query: AttainmentQuery, figure: str, row: tuple[str, int]) -> Panel:
    """Activities by kind, and how they stand against their target."""
    line, record = query.line, query.row(*row)
    done = activities_inside(
        line.book, line.snapshot, line.period, line.scope, done_in(line, line.period).of_kind(query.kind)
    )
    mine = done_by(line.book, line.snapshot, done, *row)
    terms = [
        (as_words(kind), count(int(mine.number[mine.kind == index].sum())))
        for index, kind in enumerate(KINDS)
        if np.any(mine.kind == index)
    ]
    values = {
        "won": ("done", hundredths(record.forecast.won)),
        "quota": ("target", hundredths(record.forecast.quota)),
        "pace": ("target so far", hundredths(record.pace)),
        "gap": ("remaining", hundredths(record.forecast.gap)),
        "attainment": ("done of the target", percent(record.forecast.attainment)),
        "to_date": ("done against the target so far", percent(record.to_date)),
        "open": ("open", hundredths(record.forecast.open)),
    }
    words, total = values[figure]
    if figure in ("quota", "pace"):
        terms = [
            ("own target", hundredths(record.forecast.target.own)),
            ("total of teams and people below", hundredths(record.forecast.target.of_parts)),
        ]
    elif figure != "won":
        terms += [values["won"], values["quota"], values["pace"]]
    return Panel(
        f"{words.capitalize()}, {record.forecast.name}",
        "Completed activities of the people in this selection. Teams count their members on the day of the "
        "activity. Web visits count only if chosen.",
        _terms(*terms),
        str(total),
        words,
    )
