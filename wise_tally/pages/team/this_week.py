"""This week: what each rep set out to close against what is done, and phone calls and mails against their targets."""

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.activity import activity_attainment
from wise_tally.core.answers.results import of_week
from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.calendar import Period
from wise_tally.core.derived import derived
from wise_tally.core.findings.of_people import ACTIVITY_WORDS
from wise_tally.core.people_table import WeekRow, this_week, week_together
from wise_tally.domain.formats import money
from wise_tally.web.activities_done import done_in
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.ink import share
from wise_tally.web.paging import paged
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, panel_response

COUNTED = ("phone", "mail")


@dataclass(frozen=True)
class WeekLine:
    """A person's week to draw: money, deals, activities by kind; queries of workings."""

    key: str
    row: WeekRow
    width_set: str
    width_won: str
    then: str
    now: str
    done: list[tuple[str, AttainmentRow | None, str]]


def week_of(line: FilterLine) -> Period:
    """The week of the scope, or the one that the as-of day falls in."""
    if line.period.kind == "week":
        return line.period
    return line.book.reference.fiscal.containing(line.as_of, "week")


@derived(most=2)
def week_lines(line: FilterLine, week: Period) -> list[WeekLine]:
    """The people of the scope, the most set out first."""
    evening = min(week.starts_on - timedelta(days=1), line.as_of)
    before = line.book.as_of(evening)
    rows = {row.person: row for row in this_week(line.book, before, line.snapshot, week, line.scope)}
    done = done_in(line, week)
    by_kind = {
        kind: {
            row.forecast.node: row
            for row in activity_attainment(line.book, line.snapshot, week, line.scope, "person", done.of_kind(kind))
        }
        for kind in COUNTED
    }
    people = line.book.reference.people
    active = {
        n
        for of_kind in by_kind.values()
        for n, row in of_kind.items()
        if n >= 0 and (row.forecast.won or row.forecast.quota)
    }
    for person in active - set(rows):
        rows[person] = WeekRow(person, people[person].name, 0, False, 0, 0, 0, 0, 0)
    largest = max([1, *(max(row.set_out_minor, row.won_minor) for row in rows.values())])
    of_kind = []
    for row in sorted(rows.values(), key=lambda one: (-one.set_out_minor, -one.won_minor, one.name)):
        node = f"node=person:{people[row.person].key}"
        now = f"{line.query(period=week.text)}&{node}"
        acts = [
            (kind, by_kind[kind].get(row.person), f"{now}&by=person&measure=activities&kind={kind}") for kind in COUNTED
        ]
        then = f"{line.query(period=week.text, as_of=evening.isoformat())}&{node}"
        widths = (share(row.set_out_minor, largest), share(row.won_minor, largest))
        of_kind.append(WeekLine(people[row.person].key, row, *widths, then, now, acts))
    return of_kind


def week_context(line: FilterLine) -> dict[str, Any]:
    """What the page and the dashboard's tile draw."""
    week = week_of(line)
    lines = week_lines(line, week)
    set_out, won = week_together([one.row for one in lines])
    return {
        "week": week,
        "lines": lines,
        "set_out": set_out,
        "won": won,
        "kinds": [ACTIVITY_WORDS[kind] for kind in COUNTED],
    }


def _met(lines: list[WeekLine]) -> list[tuple[str, bool]]:
    """Who planned something for the week, and whether it is won."""
    return [(one.row.name, one.row.won_minor >= one.row.set_out_minor) for one in lines if one.row.set_out_minor]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The week, person by person."""
    line = read_scope(request, "week")
    week = week_context(line)
    every, span, fiscal = week["lines"], week["week"], line.book.reference.fiscal
    this, before, after = (line.query(period=fiscal.shifted(span, step).text) for step in (0, -1, 1))
    rows, turned = paged(request, every, line.query())
    sentence = of_week(week["set_out"], week["won"], _met(every), span.ends_on < line.as_of)
    deals = sum(one.row.deals_won + one.row.deals_open for one in every)
    answer = {
        "answer_sentence": answer_sentence(sentence, workings("team:week-working", this, "won", "set_out")),
        "week_before": before,
        "week_after": after,
        "calls": f"{reverse('forecast:calls')}?{this}",
        "footer": Footer(deals, exports=exports("team:week-table", line.query())),
        **week,
        "lines": rows,
        **turned,
    }
    return render(request, "team/week.html", answer)


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """What all set out together, or have won, person by person."""
    line = read_scope(request, "week")
    if figure not in ("set_out", "won"):
        raise Refused(f"“{figure[:40]}” is not a sum of the week. Choose one of: set_out, won.", 404)
    lines = week_lines(line, week_of(line))
    values = [(one.row.name, getattr(one.row, f"{figure}_minor")) for one in lines]
    text = (
        "The forecast each person submitted for the week or, if none, the deals due to close in it, as of the evening before."
        if figure == "set_out"
        else "Credited amounts of deals won in the week, by person."
    )
    panel = Panel(
        "Planned to close" if figure == "set_out" else "Won so far",
        text,
        tuple(PanelTerm(name, money(value)) for name, value in values if value),
        money(week_together([one.row for one in lines])[0 if figure == "set_out" else 1]),
        "together",
    )
    return panel_response(request, line, panel, f"{reverse('team:week')}?{line.query()}")


# The columns of the file.
HEADER = (
    *("person", "planned to close", "deals planned", "won", "deals won", "still open"),
    *(words for kind in COUNTED for words in (ACTIVITY_WORDS[kind], f"target of {ACTIVITY_WORDS[kind]}")),
)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The week as a file."""
    line = read_scope(request, "week")
    rows = []
    for one in week_lines(line, week_of(line)):
        acts = [v for _, row, _ in one.done for v in _numbers(row)]
        r = one.row
        rows.append((r.name, r.set_out_minor, r.set_out_deals, r.won_minor, r.deals_won, r.open_minor, *acts))
    return sheet_response(Sheet("this week", HEADER, frozenset({"planned to close", "won", "still open"}), rows), kind)


def _numbers(row: AttainmentRow | None) -> tuple[float | None, float | None]:
    if row is None:
        return (0.0, None)
    return (row.forecast.won / 100, None if row.forecast.quota is None else row.forecast.quota / 100)
