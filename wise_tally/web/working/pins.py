"""Pinned figures: one or two workings kept by their address, evaluated again when they are reconciled.

Each place registers how the figures of its workings are counted; nothing but addresses is kept.
"""

import copy
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode, urlsplit

from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpResponse, QueryDict
from django.shortcuts import redirect, render
from django.urls import Resolver404, resolve, reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.core.errors import CoreError
from wise_tally.core.reconcile import Counted, Difference, Reconciled, reconcile
from wise_tally.domain.formats import plural
from wise_tally.web.deal_rows import names_of
from wise_tally.web.filter_line import PARTS, FilterLine
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

MOST_SHOWN = 100
WORDS = {
    "not_there": "did not exist on that date",
    "process": "belongs to another process",
    "territory": "is in another territory",
    "whose": "belongs to somebody else",
    "kept": "is removed by a filter",
    "basis": "is not in the base of this figure",
    "status": "has a different status",
    "period": "is in another period",
    "category": "is in another forecast category",
    "definition": "is not what this figure counts",
    "value": "counts with a different amount, probability or share",
    "": "counts the same in both",
}


@dataclass(frozen=True)
class PinnedFigure:
    """A figure with its title, value and scope in words, and the deals it rests on. `basis` says what makes its base."""

    title: str
    total: str
    line: FilterLine
    basis: str
    counted: Counted


Provider = Callable[[PageRequest, dict[str, Any]], PinnedFigure]
PROVIDERS: dict[str, Provider] = {}


def provides(name: str) -> Callable[[Provider], Provider]:
    """Register how the figures of a working (by the name of its address) are counted."""

    def register(provider: Provider) -> Provider:
        PROVIDERS[name] = provider
        return provider

    return register


def figure_at(request: PageRequest, address: str) -> PinnedFigure | None:
    """The figure of a working's address for this viewer; None where it can no longer be counted. Once a request."""
    known: dict[str, PinnedFigure | None] = request.__dict__.setdefault("figures_counted", {})
    if address not in known:
        known[address] = _figure_at(request, address)
    return known[address]


def _figure_at(request: PageRequest, address: str) -> PinnedFigure | None:
    parts = urlsplit(address)
    try:
        match = resolve(parts.path)
    except Resolver404:
        return None
    provider = PROVIDERS.get(match.view_name or "")
    if provider is None:
        return None
    own_request = copy.copy(request)
    own_request.GET = QueryDict(parts.query)  # type: ignore[assignment]
    try:
        return provider(own_request, match.kwargs)
    except (Refused, CoreError, PermissionDenied, Http404):
        return None


@require_POST
def pin(request: PageRequest) -> HttpResponse:
    """Pin the figure of a working, or let all pins go."""
    back = safe_next(request, reverse("forecast:page"))
    if request.POST.get("what") == "forget":
        request.session.pop("pins", None)
        return redirect(back)
    address = request.POST.get("address", "")[:2_000]
    figure = figure_at(request, address)
    if figure is None:
        raise Refused("This figure cannot be pinned because it does not list deals.", 422)
    others = [entry for entry in request.session.get("pins", []) if entry["address"] != address]
    request.session["pins"] = [*others, {"address": address, "title": figure.title}][-2:]
    return redirect(back)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The two pinned figures side by side."""
    pins = request.session.get("pins", [])
    with_address = request.GET.get("with", "")
    addresses = [entry["address"] for entry in pins]
    if with_address and with_address not in addresses:
        addresses = [*addresses[-1:], with_address]
    figures = [figure_at(request, address) for address in addresses]
    if len(figures) < 2 or figures[0] is None or figures[1] is None:
        return render(request, "web/reconcile.html", {"pins": pins, "sides": None})
    first, second = figures[0], figures[1]
    result = reconcile(first.counted, second.counted)
    sides = [
        _side(f"Only in {first.title}", result.only_first, result.by_reason("only_first"), second),
        _side(f"Only in {second.title}", result.only_second, result.by_reason("only_second"), first),
        _side("In both", result.both, {}, None),
    ]
    return render(request, "web/reconcile.html", {"pins": pins, "figures": [first, second], "sides": sides})


def _side(
    title: str, deals: tuple[Difference, ...], reasons: dict[str, int], missing_from: PinnedFigure | None
) -> dict[str, Any]:
    """A third of the page: title, reasons with numbers, deals named."""
    book = books.current()
    shown = deals[:MOST_SHOWN]
    keys = [book.deals.key[item.deal] for item in shown]
    names = names_of(book, [item.deal for item in shown])
    return {
        "title": title,
        "total": len(deals),
        "reasons": [(reason_words(reason, missing_from), number) for reason, number in reasons.items()],
        "missing_from": missing_from.title if missing_from else "",
        "rows": [
            (key, names.get(key, key), item, reason_words(item.reason, missing_from))
            for key, item in zip(keys, shown, strict=True)
        ],
    }


def reason_words(reason: str, missing_from: PinnedFigure | None) -> str:
    """Why a deal is not in a figure; what makes the figure's base is said by name."""
    if reason == "basis" and missing_from is not None:
        return f"is not one of the {missing_from.basis}"
    return WORDS[reason]


@dataclass(frozen=True)
class Summary:
    """An opened figure against the pinned one, in numbers."""

    pinned: PinnedFigure
    present: PinnedFigure
    result: Reconciled
    address: str

    @property
    def words(self) -> list[str]:
        """What is only here or only there, with the commonest reason."""
        phrases = [f"{plural(len(self.result.both), 'deal')} in both"]
        sides = (("only_second", "here", self.pinned), ("only_first", "there", self.present))
        for side, where, missing_from in sides:
            if reasons := self.result.by_reason(side):
                words = reason_words(next(iter(reasons)), missing_from)
                phrases.append(f"{sum(reasons.values())} only {where}; most often because it {words}")
        return phrases


def summary(request: PageRequest) -> Summary | None:
    """The working that is open against a pinned figure; None without a pin, or for the pinned one itself."""
    address = request.get_full_path()
    others = [entry for entry in request.session.get("pins", []) if entry["address"] != address]
    if not others:
        return None
    pinned, present = figure_at(request, others[-1]["address"]), figure_at(request, address)
    if pinned is None or present is None:
        return None
    return Summary(pinned, present, reconcile(pinned.counted, present.counted), address)


def counted_list(request: PageRequest) -> str:
    """The list of exactly the deals that the opened working counts."""
    given = [(name, request.GET[name]) for name in PARTS if request.GET.get(name)]
    parameters = [*given, ("status", "all"), ("counted", request.get_full_path())]
    return f"{reverse('deals:page')}?{urlencode(parameters)}"


def can_pin(request: PageRequest) -> bool:
    """Whether the opened working can be pinned."""
    match = request.resolver_match
    return (
        match is not None and match.view_name in PROVIDERS and figure_at(request, request.get_full_path()) is not None
    )
