"""Addresses that pages had under earlier names: whoever kept one is sent on, with all that it asked."""

from django.http import HttpRequest, HttpResponsePermanentRedirect
from django.urls import URLPattern, re_path

MOVED = {
    "forecast/through/": "forecast/trend/",
    "forecast/range/": "forecast/outlook/",
    "forecast/outcome-range/": "forecast/outlook/",
    "forecast/calls/": "forecast/submitted/",
    "conversion/set-and-seen/": "conversion/probability-check/",
    "conversion/records/": "forecast/accuracy/",
    "conversion/lost/": "conversion/loss-reasons/",
    "conversion/over-time/": "conversion/monthly-trend/",
    "conversion/leads/": "conversion/lead-conversion/",
    "attainment/year/": "attainment/year-progress/",
    "attainment/compared/": "attainment/period-comparison/",
    "team/open/": "team/deals-by-rep/",
    "team/contact-gap/": "team/contact-gaps/",
    "team/one-to-one/": "team/one-to-ones/",
    "team/tally/": "team/report/",
    "team/tallies/": "team/saved-reports/",
    "team/boards/": "team/dashboards/",
    "reconcile/": "compare/",
}


def moved(request: HttpRequest, old: str, rest: str) -> HttpResponsePermanentRedirect:
    """The same under its present name."""
    parameters = request.META.get("QUERY_STRING", "")
    return HttpResponsePermanentRedirect(f"/{MOVED[old]}{rest}{'?' if parameters else ''}{parameters}")


old_addresses: list[URLPattern] = [re_path(rf"^(?P<old>{old})(?P<rest>.*)$", moved) for old in MOVED]
