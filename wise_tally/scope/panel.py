"""What the working panel shows, the same on every page."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from wise_tally.deals.models import Deal
from wise_tally.scope.line import ScopeLine

FIRST_DEALS = 10


@dataclass(frozen=True)
class PanelTerm:
    """A line of the sum."""

    words: str
    value: str


@dataclass(frozen=True)
class PanelDeal:
    """A counted deal with its part of the figure in words."""

    key: str
    name: str
    value: str


@dataclass(frozen=True)
class Panel:
    """Definition, formula with numbers, deals counted and not counted."""

    title: str
    definition: str
    terms: tuple[PanelTerm, ...]
    total: str
    total_words: str
    deals: tuple[PanelDeal, ...] = ()
    counted: int = 0
    folded: int = 0
    folded_value: str = ""
    not_counted: tuple[tuple[str, int], ...] = ()
    note: str = ""


def panel_response(
    request: HttpRequest, line: ScopeLine | None, panel: Panel, back: str, all_url: str = ""
) -> HttpResponse:
    """The panel drawn; `back` is the page it belongs to, `all_url` the list of what it counts."""
    return render(request, "ui/working.html", {"panel": panel, "line": line, "back": back, "all_url": all_url})


def named_deals(line: ScopeLine, places: Iterable[int], values: Sequence[str]) -> tuple[PanelDeal, ...]:
    """The first deals at places of the standing, each with its part in words."""
    keys = [line.book.deals.key[int(line.standing.deal[at])] for at in list(places)[:FIRST_DEALS]]
    names = dict(Deal.objects.filter(key__in=keys).values_list("key", "name"))
    return tuple(PanelDeal(key, names.get(key, key), text) for key, text in zip(keys, values, strict=False))
