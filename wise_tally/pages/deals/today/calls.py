"""Follow-ups at the top of the start page: what is planned for today and new leads, worked by telephone without leaving it."""

from dataclasses import dataclass
from datetime import date, datetime, timedelta

from django import forms
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.book.store import books
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.activity_actions import About, about_of
from wise_tally.domain.deals.follow_ups import (
    LATER,
    NOT_REACHED,
    OUTCOMES,
    REACHED,
    FollowUp,
    follow_up,
    next_try,
    planned_for,
    reached_by,
)
from wise_tally.domain.deals.models import Activity, Deal, Lead
from wise_tally.domain.formats import as_words, day
from wise_tally.domain.org.clock import now
from wise_tally.pages.deals.customers.activities import opened_about
from wise_tally.pages.deals.customers.last_step import undoable
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.forms.fields import DateField, LedgerForm
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility, visible

MOST = 30
WITH_MESSAGE = f"{NOT_REACHED}, message"
NEW_SINCE = timedelta(days=1)


@dataclass(frozen=True)
class Call:
    """Whom to follow up with, how they are reached, what it is about, when it was planned, the day proposed for another try."""

    kind: str
    key: str
    name: str
    who: str
    phone: str
    email: str
    words: str
    at: datetime
    is_late: bool
    activity: str
    again_on: date

    @property
    def href(self) -> str:
        """The page of whom or what it is about."""
        pages = {"deal": "deals:deal", "lead": "customers:lead", "account": "customers:account"}
        return reverse(pages[self.kind], args=[self.key])


def calls_of(line: FilterLine, may_see: Visibility) -> list[Call]:
    """What is due by the end of the day for the person of the filter line (else the viewer), then leads new since yesterday."""
    person = line.scope.person
    key = line.book.reference.people[person].key if person != NONE else may_see.viewer.key
    calls, again = [], next_try(line.as_of)
    for activity in planned_for(key, line.ends_at)[:MOST]:
        about = about_of(activity)
        if about is not None and _is_open(about, may_see):
            calls.append(_call(about, activity, line, again))
    fresh = may_see.leads().filter(status__in=("new", ""), created_at__gte=line.ends_at - 2 * NEW_SINCE, owner__key=key)
    fresh = fresh.filter(created_at__lt=line.ends_at)
    listed = {call.key for call in calls if call.kind == "lead"}
    calls += [_call(lead, None, line, again) for lead in fresh.order_by("created_at")[:MOST] if lead.key not in listed]
    return calls


def _is_open(about: About, may_see: Visibility) -> bool:
    if isinstance(about, Deal):
        return may_see.sees_deal(about.pk)
    return (may_see.leads() if isinstance(about, Lead) else may_see.accounts()).filter(pk=about.pk).exists()


def _call(about: About, activity: Activity | None, line: FilterLine, again: date) -> Call:
    kind = "deal" if isinstance(about, Deal) else "lead" if isinstance(about, Lead) else "account"
    who, phone, email = reached_by(about)
    who = about.customer if isinstance(about, Lead) else who
    if activity:
        words, moment = f"{as_words(activity.kind)}: {activity.subject}", activity.at
    else:
        assert isinstance(about, Lead), "without an activity only new leads are followed up"
        words, moment = f"new lead from {about.source or 'no source'}", about.created_at
    late = activity is not None and moment < line.ends_at - timedelta(days=1)
    return Call(
        kind, about.key, about.name, who, phone, email, words, moment, late, activity.key if activity else "", again
    )


class FollowUpForm(LedgerForm):
    """The outcome of a try, and when the next one is."""

    what = forms.ChoiceField(choices=[(one, one) for one in (*OUTCOMES, WITH_MESSAGE)])
    text = forms.CharField(required=False, max_length=2_000)
    next_on = DateField()

    def clean(self) -> None:
        """What does not end with somebody reached is tried again on a day."""
        if self.cleaned_data.get("what") != REACHED and not self.cleaned_data.get("next_on") and not self.errors:
            self.add_error("next_on", "Choose the day of the next try.")

    def follow_up(self) -> FollowUp:
        """What is kept; raises Refused."""
        typed = self.values()
        with_message = typed["what"] == WITH_MESSAGE
        return FollowUp(NOT_REACHED if with_message else typed["what"], typed["text"], typed["next_on"], with_message)


@require_POST
def follow(request: PageRequest) -> HttpResponse:
    """Keep the outcome of a try and go on with the page."""
    what = FollowUpForm(request.POST).follow_up()
    key = request.POST.get("activity", "")
    planned = visible(request).activity(key) if key else None
    about = about_of(planned) if planned else opened_about(request)
    if about is None:
        raise Refused("This activity belongs to no deal, account or lead. Open it from the journal.", 422)
    outcome_words = "put off" if what.outcome == LATER else what.outcome
    words = f"{about.name}: {outcome_words}{f', next {day(what.next_on)}' if what.next_on else ''}."
    with undoable(request, about, words, may_undo=not what.with_message):
        follow_up(request.viewer, books.current().reference, about, planned, what, now())
    return redirect(safe_next(request, "/today/"))
