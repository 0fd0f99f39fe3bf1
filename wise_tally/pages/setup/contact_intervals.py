"""The page of contact intervals: days between contacts, per class of account and per process."""

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from wise_tally.core.customer import CONTACT_INTERVAL_DAYS
from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.contact_intervals import (
    INDUSTRY,
    MOST_DAYS,
    PROCESS,
    Subject,
    industries,
    saved_intervals,
    set_intervals,
)
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.process.models import Process
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.viewing import PageRequest


def _subjects() -> list[tuple[Subject, str]]:
    """What may have an interval of its own, with its name."""
    processes = Process.objects.order_by("name").values_list("key", "name")
    return [((INDUSTRY, name), name) for name in industries()] + [((PROCESS, key), name) for key, name in processes]


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def page(request: PageRequest) -> HttpResponse:
    """Days between contacts; an empty field goes back to the usual ones."""
    subjects, saved = _subjects(), saved_intervals()
    typed = {subject: str(saved.get(subject, "")) for subject, _ in subjects}
    faults: dict[Subject, str] = {}
    if request.method == "POST":
        typed = {subject: request.POST.get(f"days-{i}", "").strip() for i, (subject, _) in enumerate(subjects)}
        faults = {subject: fault for subject, text in typed.items() if (fault := _fault(text))}
        if not faults:
            days = {subject: whole_number(text) for subject, text in typed.items()}
            messages.success(request, f"{plural(set_intervals(request.viewer, days, now()), 'interval')} saved.")
            return redirect("setup:contact-intervals")
    rows = [
        (index, name, subject[0] == INDUSTRY, typed[subject], faults.get(subject, ""))
        for index, (subject, name) in enumerate(subjects)
    ]
    answer = {"rows": rows, "usual": CONTACT_INTERVAL_DAYS, "may_edit": request.viewer.may(May.SET_RULES)}
    return render(request, "setup/contact_intervals.html", answer, status=422 if faults else 200)


def _fault(text: str) -> str:
    if not text or whole_number(text, MOST_DAYS):
        return ""
    return f"“{text[:20]}” is not valid. Enter whole days from 1 to {MOST_DAYS}, or leave it empty."
