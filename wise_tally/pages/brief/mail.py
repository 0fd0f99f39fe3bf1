"""The brief by mail: on which days, from which hour, of whom; unsubscribing in one click."""

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods

from wise_tally.domain.briefs.actions import BriefRefused, set_digest, stop_digest
from wise_tally.domain.briefs.models import Digest
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person
from wise_tally.web.filter_line import scope_of
from wise_tally.web.request.refusals import BadLink, Refused
from wise_tally.web.request.viewing import PageRequest

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
HOURS = {str(hour): f"{hour:02}:00" for hour in range(24)}
USUAL_HOUR = 7


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """Days and hour of one’s own brief by mail; none for no mail."""
    digest = Digest.objects.filter(person__key=request.viewer.key).first()
    fault = ""
    if request.method == "POST":
        fault = _save(request)
        if not fault:
            messages.success(request, "Saved.")
            return redirect(reverse("brief:mail"))
    line = scope_of(request.viewer, {})
    days = request.POST.getlist("day") if request.method == "POST" else (digest.days.split(",") if digest else [])
    answer = {
        "days": [(str(number), name, str(number) in days) for number, name in enumerate(WEEKDAYS)],
        "hours": HOURS.items(),
        "hour": request.POST.get("hour", str(digest.hour if digest else USUAL_HOUR)),
        "who": request.POST.get("who", digest.who if digest else ""),
        "choices": line.choices_who,
        "digest": digest,
        "email": Person.objects.filter(key=request.viewer.key).values_list("email", flat=True).first(),
        "fault": fault,
    }
    return render(request, "brief/mail_settings.html", answer, status=422 if fault else 200)


def _save(request: PageRequest) -> str:
    """Keep what was chosen; returns what is wrong with it, in words."""
    days, hour, who = request.POST.getlist("day"), request.POST.get("hour", ""), request.POST.get("who", "")
    if not all(day in "0123456" and len(day) == 1 for day in days):
        return "Choose days of the week."
    if hour not in HOURS:
        return "Choose an hour from 0 to 23."
    try:
        # Whom the receiver may not see cannot be subscribed to.
        scope_of(request.viewer, {"who": who} if who else {})
        set_digest(request.viewer, [int(day) for day in days], int(hour), who, now())
    except (BriefRefused, BadLink, Refused) as refused:
        return str(refused)
    return ""


@csrf_exempt
@require_http_methods(["GET", "HEAD", "POST"])
def unsubscribe(request: PageRequest, token: str) -> HttpResponse:
    """No more brief by mail, from the link of a mail, without signing in: a mail program’s one click, or the button of the page."""
    digest = Digest.objects.filter(token=token).select_related("person").first()
    if digest is None and request.method == "POST":
        raise Http404
    if request.method == "POST" and digest is not None:
        stop_digest(digest.person, viewer_of(digest.person), now())
        digest = None
    return render(request, "brief/unsubscribed.html", {"digest": digest})
