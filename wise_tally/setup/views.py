"""The front page of setup: what can be set, and what is still missing for a forecast."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.org.models import Workspace
from wise_tally.process.models import Process
from wise_tally.shelf.book import shelf


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    """What can be set, and what is still missing for a forecast."""
    ground = shelf.book().ground
    missing = []
    if not ground.processes:
        missing.append("a process with stages")
    if not ground.people:
        missing.append("people")
    if not ground.quotas:
        missing.append("quotas")
    answer = {"processes": Process.objects.order_by("name"), "missing": missing, "workspace": Workspace.current()}
    return render(request, "setup/page.html", answer)
