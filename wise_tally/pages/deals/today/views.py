"""Due today: what to do next, and how the targets stand."""

from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import urlencode

from babel.numbers import get_currency_precision
from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.core.answers.results import of_due_today
from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.derived import derived
from wise_tally.core.lines import Filter
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.actions import change_deal
from wise_tally.domain.deals.models import Deal, DealRevision, Lead
from wise_tally.domain.deals.parts import Who, change_part
from wise_tally.domain.deals.selectors import CONTACT_KINDS
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Workspace
from wise_tally.pages.deals.customers.leads import owned_by
from wise_tally.pages.deals.today.calls import calls_of
from wise_tally.pages.deals.today.due import REASON_WORDS, coming, due_deals, due_panel, flagged, in_order
from wise_tally.web.answers import answer_sentence
from wise_tally.web.deal_rows import stage_choices
from wise_tally.web.deal_saving import save
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.forms.deal import DealForm, read_deal_form
from wise_tally.web.forms.fields import DateField, LedgerForm, forms
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.nodes import scope_node, working_query
from wise_tally.web.paging import neighbours, page_of
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible
from wise_tally.web.working.panel import panel_response

PAGE = 25
LEADS = 12


@require_safe
def today(request: PageRequest) -> HttpResponse:
    """What to do next, and how the target stands."""
    line, viewer = read_scope(request), request.viewer
    leads, whose = _new_leads(request, line)
    answer = {
        **_due(request, line),
        "targets": _targets(line),
        "calls": calls_of(line, visible(request)),
        "has_message": bool(Workspace.current().not_reached_message.strip()),
        "coming": coming(line),
        "leads": leads[:LEADS],
        "leads_count": leads.count(),
        "leads_owner": whose,
        "stages": stage_choices(),
        "kinds": CONTACT_KINDS,
        "may_edit": not line.is_past and viewer.may(May.CHANGE_OWN_DEALS),
        "this_page": request.get_full_path(),
    }
    return render(request, "today/today.html", answer)


def _due(request: PageRequest, line: FilterLine) -> dict[str, Any]:
    """The deals that are due, counted by reason in a sentence, and a page of them."""
    due, order = flagged(line), in_order(line)
    page = page_of(request, len(order), PAGE)
    reasons = list(zip(REASON_WORDS, due.flags.sum(axis=1).tolist(), strict=True))
    return {
        "answer_sentence": answer_sentence(of_due_today(len(order), reasons), {}),
        "due": due_deals(line, due, order[page.first : page.last], request.viewer),
        "open_deals": len(due.rows),
        "page": page,
        **neighbours(page, lambda number: urlencode([*line.given, ("page", number)])),
    }


def _new_leads(request: PageRequest, line: FilterLine) -> tuple[QuerySet[Lead], str]:
    """New leads of whom was chosen (as the list of leads names them), else all that the viewer may see."""
    who = "" if request.viewer.sees_own_only else dict(line.given).get("who", "").removeprefix("person:")
    leads = visible(request).leads().filter(status__in=("new", "")).select_related("owner").order_by("created_at")
    return owned_by(leads, who, line.book.reference, line.as_of), who


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How many deals are due, and why."""
    line = read_scope(request)
    return panel_response(request, line, due_panel(line), f"{reverse('today:today')}?{line.query()}")


@dataclass(frozen=True)
class TargetLine:
    """How a target stands in a period."""

    words: str
    row: AttainmentRow
    bar: InkBar
    working: str


@derived()
def _targets(line: FilterLine) -> list[TargetLine]:
    """Won against quota and pace of this month and this quarter for whose deals are shown."""
    fiscal, by, node = line.book.reference.fiscal, "company", 0
    if line.scope.person != NONE:
        by, node = "person", line.scope.person
    elif line.scope.team != NONE:
        by, node = "team", line.scope.team
    targets = []
    for kind in ("month", "quarter"):
        period = fiscal.containing(line.as_of, kind)
        rows = attainment(line.book, line.snapshot, period, Filter(), by)
        row = next((row for row in rows if row.forecast.node == node), None)
        if row is not None:
            largest = max(row.forecast.won, row.forecast.quota or 0, row.pace or 0, 1)
            bar = ink_bar(row.forecast.won, [], row.forecast.quota, row.pace, largest)
            targets.append(TargetLine(period_words(period), row, bar, working_query(line, scope_node(line)[2], period)))
    return targets


class NextStepForm(LedgerForm):
    """The next step typed into a row."""

    next_step = forms.CharField(required=False, max_length=10_000)
    next_step_on = DateField()


@require_POST
def update(request: PageRequest, key: str) -> HttpResponse:
    """Stage, expected close and next step of a deal brought up to date together."""
    deal = visible(request).deal(key, "process")
    form = read_deal_form(request.POST, deal, get_currency_precision(Workspace.current().currency))
    step = NextStepForm(request.POST)
    if not step.is_valid():
        form.faults |= {name: " ".join(map(str, faults)) for name, faults in step.errors.items()}
        form.state = None
    write = partial(_write_both, request, deal, form, step)
    return save(request, deal, form, write, (reverse("today:update", args=[deal.key]), reverse("today:today")))


def _write_both(request: PageRequest, deal: Deal, form: DealForm, step: NextStepForm) -> DealRevision:
    assert form.state is not None
    who, due = Who(request.viewer, books.current().reference, now()), step.cleaned_data["next_step_on"]
    value = {"next_step": step.cleaned_data["next_step"], "next_step_on": due.isoformat() if due else None}
    with transaction.atomic():
        # The state first: moving a deal may refuse, and then nothing at all is saved.
        after = change_deal(who.viewer, who.reference, deal, form.revision, form.state, "", who.now, form.further)
        change_part(who, deal, "next", value, request.POST.get("expected", ""))
    return after
