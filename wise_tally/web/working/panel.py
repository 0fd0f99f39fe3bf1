"""What the working panel shows, the same on every page."""

import copy
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpResponse, QueryDict
from django.template.loader import render_to_string
from django.urls import Resolver404, resolve
from django.utils.cache import patch_vary_headers

from wise_tally.core.errors import CoreError
from wise_tally.core.money import Ints
from wise_tally.domain.formats import money
from wise_tally.web.deal_rows import names_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.pins import counted_list

FIRST_DEALS = 10
# Which part of a page a script asks for.
TARGET = "X-Alpine-Target"


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
    """Definition, formula with numbers, deals counted and not counted.

    `places` are all counted deals in the snapshot of the line: where more are counted than shown, they are listed.
    """

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
    places: Ints | None = None


class PanelResponse(HttpResponse):
    """A panel drawn, with what was drawn."""

    panel: Panel
    line: FilterLine | None


def panel_response(
    request: PageRequest, line: FilterLine | None, panel: Panel, back: str, all_url: str = ""
) -> PanelResponse:
    """The panel drawn; `back` is the page it belongs to, `all_url` the list of what it counts unless its places say it.

    Asked for beside a page it is answered by itself, else with a page around it.
    """
    if not all_url and panel.places is not None:
        all_url = counted_list(request)
    placed, around = (
        ("beside", "web/beside.html") if request.headers.get(TARGET) == "working" else ("alone", "web/base.html")
    )
    context = {"panel": panel, "line": line, "back": back, "all_url": all_url, "placed": placed, "around": around}
    response = PanelResponse(render_to_string("web/working.html", context, request))
    patch_vary_headers(response, (TARGET,))
    response.panel, response.line = panel, line
    return response


def counted_at(request: PageRequest, address: str) -> tuple[str, Ints] | None:
    """Title, and indices into the book of the deals that the working at an address counts for this viewer.

    None where it is no working, can no longer be opened, or does not say its deals.
    """
    parts = urlsplit(address)
    try:
        match = resolve(parts.path)
    except Resolver404:
        return None
    if not (match.view_name or "").endswith(("working", "figure")):
        return None
    own_request = copy.copy(request)
    own_request.GET = QueryDict(parts.query)  # type: ignore[assignment]
    try:
        # The view itself answers, with all that it checks.
        answer = match.func(own_request, *match.args, **match.kwargs)
    except (Refused, CoreError, PermissionDenied, Http404):
        return None
    if not isinstance(answer, PanelResponse) or answer.line is None or answer.panel.places is None:
        return None
    return f"{answer.panel.title}: {answer.panel.total}", answer.line.snapshot.deal[answer.panel.places]


def listed(line: FilterLine, indices: Ints, texts: Sequence[str], amount: Ints | None = None) -> dict[str, Any]:
    """The parts of a panel that name deals: the first with their texts, how many more, and of `amount` (minor units) their sum.

    `places` are those of all counted deals in the snapshot, in the order to show, `amount` has their shape.
    """
    rest = "" if amount is None else money(int(amount[FIRST_DEALS:].sum()))
    return {
        "deals": named_deals(line, indices.tolist(), texts),
        "counted": len(indices),
        "folded": max(0, len(indices) - FIRST_DEALS),
        "folded_value": rest,
        "places": np.unique(indices),
    }


def named_deals(line: FilterLine, indices: Iterable[int], values: Sequence[str]) -> tuple[PanelDeal, ...]:
    """The first deals at rows of the snapshot, each with its part in words."""
    deals = line.snapshot.deal[list(indices)[:FIRST_DEALS]].tolist()
    keys, names = [line.book.deals.key[deal] for deal in deals], names_of(line.book, deals)
    return tuple(PanelDeal(key, names.get(key, key), text) for key, text in zip(keys, values, strict=False))


def by_amount(line: FilterLine, rows: Ints) -> dict[str, Any]:
    """The same for deals with their amounts, the largest first."""
    order = rows[np.argsort(-line.snapshot.amount_minor[rows], kind="stable")]
    amount = line.snapshot.amount_minor[order]
    return listed(line, order, [money(int(value)) for value in amount[:FIRST_DEALS]], amount)
