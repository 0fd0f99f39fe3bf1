"""The guided start of an empty workspace: what is done, what is missing, every step skippable, resumed at any time."""

from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from wise_tally.book.store import books
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.first_run import Added, add_teams
from wise_tally.domain.org.models import AuditEntry, Person, Team
from wise_tally.domain.org.pasted_people import PastedPerson, add_people, read_people
from wise_tally.domain.process.models import Process
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.setup.views import missing_for_a_forecast
from wise_tally.web.files.uploads import pasted_rows
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest


@dataclass(frozen=True)
class Step:
    """One step: what it is for, whether it is done, where its page is and what leads there."""

    slug: str
    title: str
    words: str
    done: str
    url: str
    leads: str


def steps() -> list[Step]:
    """All steps in their order, with what is there already."""
    book = books.current()
    reference = book.reference
    set_up = AuditEntry.objects.filter(action="organisation set").exists()
    teams, people = Team.objects.count(), Person.objects.count()
    deals = len(book.deals.key)
    return [
        Step("organisation", "Currency, time zone, fiscal year", "All figures use one currency and one calendar.",
             "done" if set_up else "", reverse("setup:organisation"), "Set currency and calendar"),
        Step("process", "Sales process", "Stages and probabilities, from a template or empty.",
             _count(len(reference.processes), "process", "processes"), reverse("setup:processes"), "All processes"),
        Step("teams", "Teams", "One per line. Indent a line to place it under the team above.",
             _count(teams, "team", "teams"), reverse("setup:tree", args=["teams"]), "All teams"),
        Step("people", "People", "One per line, or pasted from a spreadsheet: name, e-mail, team, role (rep, manager, admin or viewer).",
             _count(people - 1, "other person", "other people"), reverse("setup:entries", args=["people"]), "All people"),
        Step("targets", "Targets", "A yearly target distributed over months and people, or uploaded from a spreadsheet.",
             _count(len(reference.quotas), "quota", "quotas"), reverse("setup:quotas"), "Open the quota plan"),
        Step("deals", "Deals", "Import from a CSV or XLSX file.",
             _count(deals, "deal", "deals"), reverse("imports:imports"), "Import deals"),
    ]  # fmt: skip


def _count(number: int, one: str, several: str) -> str:
    return "" if number <= 0 else f"1 {one}" if number == 1 else f"{number} {several}"


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def start(request: PageRequest) -> HttpResponse:
    """The guided start; teams and people are typed here, the rest on their own pages."""
    wrong, typed = "", {name: request.POST.get(name, "") for name in ("teams", "people")}
    people = read_people(pasted_rows(typed["people"]))
    if request.method == "POST" and "preview" not in request.POST:
        try:
            added = _add(request, typed["teams"], people)
            messages.success(request, f"{added.added} added, {added.there} were there already.")
            return redirect("setup:start")
        except WriteRefused as refused:
            wrong = str(refused)
    answer = {**_steps(request), "typed": typed, "people": people, "wrong": wrong}
    return render(request, "setup/start.html", answer, status=422 if wrong else 200)


def _add(request: PageRequest, teams: str, people: list[PastedPerson]) -> Added:
    if "teams" in request.POST:
        return add_teams(request.viewer, teams, now())
    if "people" in request.POST:
        return add_people(request.viewer, people, now())
    raise Refused("Enter teams or people, one per line.")


def _steps(request: PageRequest) -> dict[str, Any]:
    """The steps, each with the one after it; which is open; and what a forecast still lacks."""
    book, every = books.current(), steps()
    following = [*(step.slug for step in every[1:]), ""]
    return {
        "steps": list(zip(every, following, strict=True)),
        "open_step": request.GET.get("step") or next((step.slug for step in every if not step.done), ""),
        "missing": missing_for_a_forecast(book.reference, len(book.deals.key)),
        "empty": not Process.objects.exists() and len(book.deals.key) == 0,
    }
