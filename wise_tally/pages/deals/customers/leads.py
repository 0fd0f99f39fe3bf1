"""The list of leads, as of a day, with the step each stood in."""

from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any

from django.db.models import Case, Exists, F, OuterRef, Q, QuerySet, Subquery, When
from django.db.models.functions import Coalesce
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from wise_tally.core.customer import days_between
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.database import among
from wise_tally.domain.deals.models import Lead, LeadMove
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.models import LeadStep, Source
from wise_tally.pages.deals.customers.several import list_context
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_day
from wise_tally.web.forms.choices import Pair, key_of, pairs_of
from wise_tally.web.lead_rows import lead_steps
from wise_tally.web.page_query import PageQuery, choice, text
from wise_tally.web.paging import Page, neighbours, page_of
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

PAGE = 50
STATUSES = {
    "open": ("new", "working"),
    "new": ("new", ""),
    "working": ("working",),
    "qualified": ("qualified",),
    "dropped": ("dropped",),
    "all": ("new", "", "working", "qualified", "dropped"),
}
UNASSIGNED, TEAM = "unassigned", "team:"


def visible_lead(request: PageRequest, key: str) -> Lead:
    """The lead, if the viewer may open it."""
    return visible(request).lead(key, "owner", "deal")


def owned_by(leads: QuerySet[Lead], who: str, reference: ReferenceData, as_of: date) -> QuerySet[Lead]:
    """Leads of a person (identifier), of a team’s people on a day (`team:` and identifier), or of nobody yet; without `who` all."""
    if not who.startswith(TEAM):
        return leads.filter(owner=None) if who == UNASSIGNED else leads.filter(owner__key=who) if who else leads
    teams, day = {f"{TEAM}{one.key}": index for index, one in enumerate(reference.teams)}, as_of.toordinal()
    below = reference.team_tree(as_of).below(teams[who]) if who in teams else frozenset()
    people = (one.key for index, one in enumerate(reference.people) if reference.team_of(index, day) in below)
    return leads.filter(owner__key__in=among(people))


def age_days(lead: Lead, moment: datetime) -> float:
    """Days from a lead's creation to its closing, or to `moment`, before which it was created."""
    return days_between(lead.created_at, min(lead.closed_at or moment, moment))


def _as_of(leads: QuerySet[Lead], status: str, moment: datetime) -> QuerySet[Lead]:
    """Leads created before a moment that had a status then; what was closed later was being worked on."""
    later = Q(closed_at__gte=moment)
    wanted = Q(status__in=STATUSES[status]) & ~later
    if "working" in STATUSES[status]:
        wanted |= later
    return leads.filter(wanted, created_at__lt=moment)


def _with_step(leads: QuerySet[Lead], moment: datetime) -> QuerySet[Lead]:
    """Leads with the step they had taken last before a moment (`step_then`) and when (`step_since`)."""
    last = LeadMove.objects.filter(lead=OuterRef("pk"), at__lt=moment).order_by("-at", "-pk")
    # One that came with a step and never moved has always been there, as far as is known.
    moved = Exists(LeadMove.objects.filter(lead=OuterRef("pk")))
    unmoved = Case(When(~moved, then=F("step__key")))
    then = Coalesce(Subquery(last.values("step__key")[:1]), unmoved)
    return leads.annotate(step_then=then, step_since=Subquery(last.values("at")[:1]))


def _in_step(lead: Any, steps: dict[str, LeadStep], moment: datetime) -> tuple[LeadStep | None, float | None, bool]:
    """The step of a lead, how many days it has been there, and whether that is long for an open one."""
    step = steps.get(lead.step_then)
    if step is None or lead.step_since is None:
        return step, None, False
    spent = days_between(lead.step_since, min(lead.closed_at or moment, moment))
    typical = step.typical_days_hundredths
    return step, spent, lead.closed_at is None and typical is not None and spent > typical / 100


def _opened_again(lead: Lead, moment: datetime) -> Lead:
    """The lead as it was at a moment."""
    if lead.closed_at and lead.closed_at >= moment:
        lead.closed_at, lead.deal, lead.status, lead.dropped_because = None, None, "working", ""
    return lead


@dataclass(frozen=True)
class LeadQuery(PageQuery):
    """The filters of the list."""

    status: str = choice(STATUSES, "open")
    source: str = text()
    step: str = text()
    # A person's, a team's, or nobody's yet.
    owner: str = text()
    find: str = text()
    page: str = text()


@dataclass(frozen=True)
class LeadRow:
    """A lead with its age, the step it stood in, since when, in days, and whether that is longer than typical."""

    lead: Lead
    age: float
    step: LeadStep | None
    days: float | None
    is_long: bool


@dataclass(frozen=True)
class LeadList:
    """Leads with the filters that made the list and whose can be listed, as of a day: one page of it, or all."""

    query: LeadQuery
    owners: list[Pair]
    rows: list[LeadRow]
    page: Page


def _owners(request: PageRequest, line: FilterLine) -> list[Pair]:
    """Whose leads can be listed alone: nobody’s, a team’s, a person’s."""
    teams = [(choice.value, choice.label) for choice in line.choices_who if choice.value.startswith(TEAM)]
    owning = Person.objects.filter(pk__in=visible(request).leads().values("owner")).order_by("name")
    return [(UNASSIGNED, UNASSIGNED), *teams, *pairs_of(owning)]


def _listed(request: PageRequest, whole: bool = False) -> LeadList:
    line = read_day(request)
    query, owners = LeadQuery.read(line, request.GET), _owners(request, line)
    query = replace(query, owner=key_of(owners, query.owner))
    leads = _as_of(visible(request).leads(), query.status, line.ends_at).select_related("owner", "deal")
    leads = _with_step(leads, line.ends_at).order_by("-created_at", "key")
    if query.find:
        leads = leads.filter(name__icontains=query.find) | leads.filter(customer__icontains=query.find)
    if query.source:
        leads = leads.filter(source=query.source)
    if query.step:
        leads = leads.filter(Q(step_then=query.step))
    leads = owned_by(leads, query.owner, line.book.reference, line.as_of)
    page, moment = page_of(request, leads.count(), PAGE), line.ends_at
    shown = leads if whole else leads[page.first : page.last]
    steps = {step.key: step for step in LeadStep.objects.all()}
    rows = [
        LeadRow(_opened_again(lead, moment), age_days(lead, moment), *_in_step(lead, steps, moment)) for lead in shown
    ]
    return LeadList(query, owners, rows, page)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The list of leads, the newest first."""
    lead_list = _listed(request)
    answer = {
        **list_context(request, "lead", lead_list.query.line),
        "list": lead_list,
        "statuses": list(STATUSES),
        "steps": lead_steps(),
        "sources": Source.objects.order_by("name").values_list("name", flat=True),
        **neighbours(lead_list.page, lambda number: lead_list.query.query(page=number)),
        "exports": exports("customers:leads-table", lead_list.query.query(page=None)),
    }
    return render(request, "customers/leads.html", answer)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The whole list as CSV, XLSX or JSON."""
    header = ("lead", "organisation", "source", "campaign", "score", "owner", "status", "step", "days in step", "created",
              "age, days", "reason disqualified")  # fmt: skip
    rows = [_cells(row) for row in _listed(request, whole=True).rows]
    return sheet_response(Sheet("leads", header, frozenset(), rows), kind)


def _cells(row: LeadRow) -> tuple[Any, ...]:
    lead = row.lead
    return (
        *(lead.name, lead.customer, lead.source, lead.campaign, lead.score, lead.owner.name if lead.owner else ""),
        *(lead.status or "new", row.step.name if row.step else "", None if row.days is None else round(row.days, 1)),
        *(local_day(lead.created_at).isoformat(), round(row.age, 1), lead.dropped_because),
    )
