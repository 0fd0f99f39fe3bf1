"""The page of personal tokens: given, shown once, taken away."""

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.token_actions import CALENDAR, give_token, take_token_away, tokens_of
from wise_tally.web.request.viewing import PageRequest


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """One's tokens, and a new one, whose text stands on the answer alone."""
    viewer = request.viewer
    given = calendar = ""
    if request.method == "POST":
        if request.POST.get("use") == CALENDAR:
            calendar = give_token(viewer, "calendar", now(), CALENDAR)
        else:
            given = give_token(viewer, request.POST.get("name", ""), now())
    answer = {
        "tokens": tokens_of(viewer),
        "given": given,
        "calendar": request.build_absolute_uri(reverse("calendar-feed", args=[calendar])) if calendar else "",
        "sees_all": viewer.may(May.SET_ORGANISATION),
        "base": request.build_absolute_uri("/api/"),
    }
    return render(request, "setup/tokens.html", answer)


@require_POST
def away(request: PageRequest, number: int) -> HttpResponse:
    """End a token."""
    take_token_away(request.viewer, get_object_or_404(tokens_of(request.viewer), pk=number), now())
    messages.success(request, "The token no longer opens anything.")
    return redirect("tokens")
