"""What is found in a picker of the filter line while its name is typed: people and teams, territories, periods of any year."""

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import date

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import EPOCH, Period
from wise_tally.web.filter_line import Choice, FilterLine, period_words, read_scope
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.viewing import PageRequest

PICKED = ("who", "where", "period")
MOST_FOUND = 30
# Years after this one whose periods are found, too.
YEARS_AHEAD = 3
PARTS_OF_YEAR = (("year", 1), ("quarter", 4), ("month", 12))


@require_safe
def pick(request: PageRequest, part: str) -> HttpResponse:
    """The entries whose name holds every word typed, as links to the page asked from."""
    one_of(part, PICKED, "is not picked by name", 404)
    line = read_scope(request)
    words = request.GET.get("q", "").casefold().split()
    rest = tuple(one for one in line.rest if one[0] != "q")
    found = [choice for choice in _choices(line, part) if all(word in choice.label.casefold() for word in words)]
    answer = {
        "choices": found[:MOST_FOUND],
        "more": len(found) - MOST_FOUND,
        "part": part,
        "line": replace(line, rest=rest),
    }
    return render(request, "web/picked.html", answer)


def _choices(line: FilterLine, part: str) -> Iterable[Choice]:
    if part == "who":
        return line.choices_who
    if part == "where":
        return line.choices_where
    return (Choice(one.text, period_words(one)) for one in _periods(line))


def _periods(line: FilterLine) -> Iterator[Period]:
    """Years, quarters and months from the first deal on, the latest first."""
    fiscal, created = line.book.reference.fiscal, line.book.deals.created_at
    earliest = date.fromordinal(EPOCH + int(created.min()) // 86_400) if len(created) else line.today
    first, last = fiscal.fiscal_year_of(min(earliest, line.today)), fiscal.fiscal_year_of(line.today) + YEARS_AHEAD
    for year in range(last, first - 1, -1):
        for kind, count in PARTS_OF_YEAR:
            yield from (fiscal.part(year, kind, number) for number in range(1, count + 1))
