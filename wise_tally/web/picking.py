"""What is found while a name is typed: in a picker of the filter line people, teams, territories and periods, in a field records."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from datetime import date
from typing import Any

from django.db.models import Case, Q, QuerySet, When
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.calendar import EPOCH, Period
from wise_tally.domain.deals.models import Partner, Product
from wise_tally.domain.org.access import May
from wise_tally.domain.org.models import Person, Team, Territory
from wise_tally.web.filter_line import Choice, FilterLine, period_words, read_scope
from wise_tally.web.forms.choices import Pair, suggested
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

PICKED = ("who", "where", "period")
MOST_MATCHES = 30
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
    matching = [choice for choice in _choices(line, part) if all(word in choice.label.casefold() for word in words)]
    answer = {
        "choices": matching[:MOST_MATCHES],
        "more": len(matching) - MOST_MATCHES,
        "part": part,
        "line": replace(line, rest=rest),
    }
    return render(request, "web/picked.html", answer)


@require_safe
def names(request: PageRequest, kind: str) -> HttpResponse:
    """Names of records that hold every word typed, as suggestions of a field; those that begin so first."""
    offered = NAMED[one_of(kind, NAMED, "is not found by name", 404)](request)
    text = request.GET.get("q", "").strip()[:200]
    pairs: list[Pair] = []
    for records in offered:
        begins = Case(When(name__istartswith=text, then=0), default=1)
        holds = (Q(name__icontains=word) for word in text.split())
        pairs += records.filter(*holds).order_by(begins, "name", "key").values_list("key", "name")[:MOST_MATCHES]
    return HttpResponse(suggested(pairs))


def _teams(request: PageRequest) -> QuerySet[Any]:
    pairs = (choice.value.partition(":") for choice in read_scope(request).choices_who)
    return Team.objects.filter(key__in=[key for kind, _, key in pairs if kind == "team"])


def _people(request: PageRequest) -> QuerySet[Any]:
    """Those at work whose deals the viewer sees: to them something is given."""
    working, may_see = Person.objects.filter(active_to=None), visible(request).people
    return working if may_see is None else working.filter(key__in=may_see)


def _colleagues(request: PageRequest) -> QuerySet[Any]:
    """Those at work with whom credit for a deal is shared."""
    return Person.objects.filter(active_to=None) if request.viewer.may(May.CHANGE_OWN_DEALS) else _people(request)


# The records of which a name is typed into a field, by kind.
NAMED: dict[str, Callable[[PageRequest], list[QuerySet[Any]]]] = {
    "accounts": lambda request: [visible(request).accounts()],
    "colleagues": lambda request: [_colleagues(request)],
    "owners": lambda request: [_teams(request), _people(request)],
    "people": lambda request: [_people(request)],
    "territories": lambda request: [Territory.objects.offered()],
    "partners": lambda request: [Partner.objects.offered()],
    "products": lambda request: [Product.objects.offered()],
}


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
