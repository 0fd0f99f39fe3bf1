"""What every template knows."""

from functools import partial
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.urls import reverse

from wise_tally.domain.org.access import May
from wise_tally.web.help import page_help
from wise_tally.web.request.gate import REQUEST_ID
from wise_tally.web.request.typed_again import refusal_of
from wise_tally.web.tabs import tabs_at

PLACES = (
    ("forecast", "Forecast"),
    ("deals", "Deals"),
    ("conversion", "Conversion"),
    ("attainment", "Attainment"),
    ("team", "Team"),
    ("setup", "Setup"),
)
# Rooms that belong to a place of the head.
WITHIN = {"imports": "setup", "customers": "deals", "today": "deals", "brief": "team"}
# Places that stand at the foot of a phone, with their drawing; the others are under "More".
ON_PHONE = {"forecast", "deals", "team"}


def page(request: HttpRequest) -> dict[str, Any]:
    """The filter line, the six places and the tabs with it carried along, who may do what, the help of the page, the demo flag."""
    scope = getattr(request, "filter_line", None)
    query = f"?{scope.query()}" if scope and scope.query() else ""
    view = request.resolver_match.view_name if request.resolver_match else ""
    current = view.rpartition(":")[0]
    at_today = current == "today"
    current = WITHIN.get(current, current)
    places = [
        {
            "name": label,
            "url": reverse(f"{name}:page") + query,
            "key": number,
            "is_current": name == current,
            "icon": name if name in ON_PHONE else "",
        }
        for number, (name, label) in enumerate(PLACES, 1)
    ]
    viewer = getattr(request, "viewer", None)
    pins = request.session.get("pins", []) if viewer and hasattr(request, "session") else []
    initials = "".join(part[0] for part in viewer.name.split()[:2]) if viewer else ""
    return {
        "places": places,
        "at_today": at_today,
        "viewer": viewer,
        "may": {right.name.lower(): viewer.may(right) for right in May} if viewer else {},
        "initials": initials,
        "demo": settings.DEMO,
        "line": scope,
        "tabs": partial(tabs_at, scope, current, view),
        "pins": pins,
        "refusal": refusal_of(request),
        "help": page_help(view) if view else None,
        "request_id": REQUEST_ID.get(),
    }
