"""The front page of setup: what can be set, and what is still missing for a forecast."""

from dataclasses import dataclass

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.book.store import books
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.models import AuditEntry, Person, Team, Territory, Workspace
from wise_tally.domain.process.models import Process
from wise_tally.domain.targets.models import Quota
from wise_tally.pages.setup.lists.registers import REGISTERS
from wise_tally.web.audit_entries import AuditLine, audit_lines
from wise_tally.web.request.viewing import PageRequest

CHANGED_LAST = 6


@dataclass(frozen=True)
class Link:
    """A line of the front page."""

    name: str
    url: str
    note: str = ""


@dataclass(frozen=True)
class Section:
    """Lines that belong together, in the order in which one sets them."""

    title: str
    links: list[Link]


def missing_for_a_forecast(reference: ReferenceData, deals: int) -> list[str]:
    """What a forecast still needs, in words."""
    needs = (
        (reference.processes, "a process with stages"),
        (reference.people, "people"),
        (reference.quotas, "quotas"),
        (deals, "deals"),
    )
    return [words for there, words in needs if not there]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """What can be set, and what is still missing for a forecast."""
    book = books.current()
    answer = {
        "missing": missing_for_a_forecast(book.reference, len(book.deals.key)),
        "workspace": Workspace.current(),
        "sections": _sections(request.viewer),
        "changed": _changed_last(request.viewer),
    }
    return render(request, "setup/page.html", answer)


def _changed_last(viewer: Viewer) -> list[AuditLine]:
    """The latest entries of the audit in words; of nobody who may not read it."""
    if not viewer.may(May.READ_RECORDS):
        return []
    return audit_lines(AuditEntry.objects.order_by("-pk")[:CHANGED_LAST])


def _sections(viewer: Viewer) -> list[Section]:
    processes = [
        Link(f"Stages of {process.name}", reverse("setup:stages", args=[process.key]))
        for process in Process.objects.order_by("name")
    ]
    return [
        Section(
            "Organisation",
            [
                Link("Organisation and fiscal year", reverse("setup:organisation")),
                Link("People and teams", reverse("setup:tree", args=["teams"]), _count(Team, "team")),
                Link("Territories", reverse("setup:tree", args=["territories"]), _count(Territory, "territory")),
                Link("All people", reverse("setup:entries", args=["people"]), _count(Person, "person")),
                Link("Tokens and calendar", reverse("tokens"), "read-only"),
            ],
        ),
        Section(
            "Sales process",
            [
                Link("Sales processes", reverse("setup:processes")),
                *processes,
                Link("Contact intervals", reverse("setup:contact-intervals")),
                *_lists(LISTS),
            ],
        ),
        Section("Products and partners", _lists(("products", "partners"))),
        Section(
            "Targets",
            [
                *(
                    []
                    if viewer.sees_own_only
                    else [Link("Quota plan", reverse("setup:quotas"), _count(Quota, "quota"))]
                ),
                Link("Seasonality and custom periods", reverse("setup:quota-parts")),
            ],
        ),
        *([Section("Data and administration", _records())] if viewer.may(May.IMPORT) else []),
    ]


def _records() -> list[Link]:
    return [
        Link("Imports", reverse("imports:imports"), "CSV and XLSX"),
        Link("Outbox", reverse("setup:outbox"), "simulated mail"),
        Link("Audit log", reverse("setup:audit"), "who changed what, and when"),
        Link("Backups", reverse("setup:backups"), "create and restore"),
    ]


LISTS = ("categories", "deal-types", "sources", "lost-reasons", "own-fields")


def _lists(slugs: tuple[str, ...]) -> list[Link]:
    return [
        Link(
            REGISTERS[slug].title,
            reverse("setup:entries", args=[slug]),
            str(REGISTERS[slug].model._default_manager.count()),
        )
        for slug in slugs
    ]


def _count(model: type[Person | Team | Territory | Quota], one: str) -> str:
    return plural(model.objects.count(), one)
