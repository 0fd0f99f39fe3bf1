"""The calendar of a person at a private address (RFC 5545): planned activities, next steps and expected closes of own deals."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta

import numpy as np
from django.http import Http404, HttpRequest, HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe
from icalendar import Calendar, Event

from wise_tally.book.store import books
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.reference_data import OPEN
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.follow_ups import planned_for
from wise_tally.domain.formats import as_words, money
from wise_tally.domain.org.access import has_left
from wise_tally.domain.org.clock import now, today, zone
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.token_actions import CALENDAR, person_of_token
from wise_tally.web.deal_rows import named

# What lies further back or ahead is left out.
BACK, AHEAD = timedelta(days=60), timedelta(days=400)
NOON, LASTS = time(12), timedelta(minutes=30)
REFRESH = timedelta(hours=1)


@dataclass(frozen=True)
class Entry:
    """An entry of the calendar: its lasting name, what it says, when it begins (a day for all of it), the page it leads to."""

    uid: str
    summary: str
    begins: date | datetime
    path: str


@require_safe
def feed(request: HttpRequest, token: str) -> HttpResponse:
    """The calendar of the person whose address it is; what was never given looks like what is not there."""
    person = person_of_token(token, now(), CALENDAR)
    if person is None or has_left(person, today()):
        raise Http404
    calendar = Calendar()
    calendar.add("prodid", "-//Wise Tally//calendar//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", f"Wise Tally, {person.name}")
    calendar.add("refresh-interval", REFRESH, parameters={"VALUE": "DURATION"})
    for entry in [*_activities(person), *_deals(person)]:
        calendar.add_component(_event(entry, request.build_absolute_uri(entry.path)))
    answer = HttpResponse(calendar.to_ical(), content_type="text/calendar; charset=utf-8")
    answer["Cache-Control"] = "private, max-age=900"
    return answer


def _event(entry: Entry, url: str) -> Event:
    event = Event()
    event.add("uid", f"{entry.uid}@wise-tally")
    event.add("dtstamp", now())
    event.add("dtstart", entry.begins)
    if isinstance(entry.begins, datetime):
        event.add("dtend", entry.begins + LASTS)
    event.add("summary", entry.summary)
    event.add("url", url)
    return event


def _activities(person: Person) -> Iterator[Entry]:
    """What the person has planned; what was planned for a day, at noon, takes the whole of it."""
    for one in planned_for(person.key, now() + AHEAD).filter(at__gte=now() - BACK):
        about = one.deal or one.lead or one.account
        pages = {"Deal": "deals:deal", "Lead": "customers:lead", "Account": "customers:account"}
        path = reverse(pages[type(about).__name__], args=[about.key]) if about else "/"
        local = one.at.astimezone(zone())
        begins = local.date() if local.time() == NOON else local
        words = f"{as_words(one.kind)}: {one.subject}" + (f", {about.name}" if about else "")
        yield Entry(f"activity-{one.key}", words, begins, path)


def _deals(person: Person) -> Iterator[Entry]:
    """Next steps and expected closes of the person's open deals."""
    stored = books.stored()
    book, day = stored.book, today()
    owner = book.reference.person_index.get(person.key, NONE)
    snapshot = book.as_of(day)
    rows = np.flatnonzero((snapshot.kind == OPEN) & (snapshot.owner == owner))
    keys = [book.deals.key[deal] for deal in snapshot.deal[rows].tolist()]
    deals = named(book, snapshot.deal[rows].tolist())
    for row, key in zip(rows.tolist(), keys, strict=True):
        deal, path = deals[key], reverse("deals:deal", args=[key])
        close = int(snapshot.expected_close[row])
        if close != NO_DAY:
            amount = money(int(snapshot.amount_minor[row]))
            yield Entry(f"close-{key}", f"Expected close: {deal.name}, {amount}", date.fromordinal(close), path)
        if deal.next_step_on:
            yield Entry(f"step-{key}", f"{deal.next_step or 'Next step'}: {deal.name}", deal.next_step_on, path)
