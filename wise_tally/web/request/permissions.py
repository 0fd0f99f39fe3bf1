"""A page that changes something asks for the right before it reads what was typed; the action asks again."""

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http.response import HttpResponseBase
from django.utils.http import url_has_allowed_host_and_scheme

from wise_tally.domain.org.access import May
from wise_tally.web.request.viewing import PageRequest

View = Callable[..., HttpResponseBase]


def changing_needs(right: May) -> Callable[[View], View]:
    """Only those with the right may post."""

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(request: PageRequest, *args: Any, **named: Any) -> HttpResponseBase:
            if request.method == "POST":
                request.viewer.require(right)
            return view(request, *args, **named)

        return guarded

    return decorate


def all_needs(right: May) -> Callable[[View], View]:
    """Only those with the right may open the page at all."""

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(request: PageRequest, *args: Any, **named: Any) -> HttpResponseBase:
            request.viewer.require(right)
            return view(request, *args, **named)

        return guarded

    return decorate


def safe_next(request: PageRequest, default: str) -> str:
    """Where a form asked to go on to, as long as it stays on this host."""
    target = request.POST.get("next") or request.GET.get("next") or ""
    safe = target.startswith("/") and url_has_allowed_host_and_scheme(target, allowed_hosts={request.get_host()})
    return target if safe else default
