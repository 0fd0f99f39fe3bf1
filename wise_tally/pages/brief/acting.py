"""What is done with a finding in the brief: put aside, taken back, agreed with the person; and a brief kept as of a meeting."""

from datetime import date, timedelta

from django import forms
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.domain.briefs.actions import Settled
from wise_tally.domain.briefs.actions import put_aside as keep_aside
from wise_tally.domain.briefs.actions import take_back as let_back
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.meeting_actions import agree as keep_agreed
from wise_tally.domain.org.models import Person
from wise_tally.pages.brief.views import finding_named
from wise_tally.web.answers import plain
from wise_tally.web.filter_line import read_scope
from wise_tally.web.findings.brief import keep_todays
from wise_tally.web.findings.wording import names_in
from wise_tally.web.forms.choices import key_of
from wise_tally.web.forms.fields import DateField, LedgerForm
from wise_tally.web.request.permissions import changing_needs, safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


class AsideForm(LedgerForm):
    """A finding that was seen, or shall come back on a day."""

    what = forms.ChoiceField(choices=[(one, one) for one in ("seen", "later")])
    until = DateField()
    reason = forms.CharField(required=False)

    def clean_until(self) -> date | None:
        """The day on which it comes back, None for one that was seen."""
        is_later, until = self.cleaned_data.get("what") == "later", self.cleaned_data["until"]
        if is_later and until is None:
            raise forms.ValidationError("Choose the day on which it should come back.")
        return until if is_later else None


class AgreedForm(LedgerForm):
    """What was agreed about a finding: its own words, in a week, unless something else is typed."""

    text = forms.CharField(required=False, max_length=10_000)
    due_on = DateField()


@require_POST
def put_aside(request: PageRequest) -> HttpResponse:
    """Seen, or not now until a day: the finding stays away from one's brief."""
    brief, finding = finding_named(request, request.POST.get("finding", ""))
    typed = AsideForm(request.POST).values()
    until = typed["until"]
    words = plain(finding.sentence, names_in(brief.line, [finding]))
    what = Settled(finding.key, finding.money_minor, words)
    keep_aside(request.viewer, what, until, typed["reason"], now(), brief.line.today)
    messages.success(request, f"Put aside {f'until {day(until)}' if until else 'until it changes'}.")
    return redirect(safe_next(request, reverse("brief:page")))


@require_POST
def take_back(request: PageRequest) -> HttpResponse:
    """Let a finding back into one's brief."""
    let_back(request.viewer, request.POST.get("finding", ""), now())
    messages.success(request, "It is back in your brief.")
    return redirect(safe_next(request, reverse("brief:page")))


@require_POST
@changing_needs(May.SET_RULES)
def agree(request: PageRequest) -> HttpResponse:
    """Tick a point of the agenda: what was agreed about it, with a day, becomes an open action of the person."""
    brief, finding = finding_named(request, request.POST.get("finding", ""))
    people = visible(request).people
    may_agree = Person.objects.all() if people is None else Person.objects.filter(key__in=people)
    key = key_of(may_agree.values_list("key", "name"), request.POST.get("person", ""))
    person = may_agree.filter(key=key).first()
    if person is None:
        raise Refused("Choose the person who does it.", 422)
    typed = AgreedForm(request.POST).values()
    due = typed["due_on"] or brief.line.today + timedelta(days=7)
    text = typed["text"] or plain(finding.sentence, names_in(brief.line, [finding]))
    keep_agreed(request.viewer, (person.key, brief.line.today), text, due, now(), finding.key)
    messages.success(request, f"Agreed with {person.name}, due {day(due)}.")
    return redirect(safe_next(request, reverse("brief:page")))


@require_POST
@changing_needs(May.SET_RULES)
def keep(request: PageRequest) -> HttpResponse:
    """Keep the brief as of today’s meeting: the next one compares with it."""
    line = read_scope(request)
    if line.is_past:
        raise Refused("A brief is kept as of today. Switch to today first.", 422)
    saved = keep_todays(line, request.viewer, visible(request), "meeting", now())
    messages.success(request, "Kept. The next brief compares with today, and this one can be read again.")
    return redirect(reverse("brief:kept", args=[saved.key]))
