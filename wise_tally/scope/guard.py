"""A page that changes something asks for the right before it reads what was typed; the action asks again."""

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http import HttpRequest, HttpResponse

from wise_tally.org.access import May

View = Callable[..., HttpResponse]


def changing_needs(right: May) -> Callable[[View], View]:
    """Only those with the right may post."""

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(request: HttpRequest, *args: Any, **named: Any) -> HttpResponse:
            if request.method == "POST":
                request.viewer.require(right)  # type: ignore[attr-defined]
            return view(request, *args, **named)

        return guarded

    return decorate


def all_needs(right: May) -> Callable[[View], View]:
    """Only those with the right may open the page at all."""

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(request: HttpRequest, *args: Any, **named: Any) -> HttpResponse:
            request.viewer.require(right)  # type: ignore[attr-defined]
            return view(request, *args, **named)

        return guarded

    return decorate
