"""The journal of a deal, an account or a lead: what changed, was talked about and written down, the newest first."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal
from urllib.parse import urlencode

from django.db.models import QuerySet
from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import REPEATS, About
from wise_tally.domain.deals.models import Account
from wise_tally.domain.formats import as_words
from wise_tally.domain.org.access import May, Viewer, visible_people
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Person
from wise_tally.pages.deals.customers.forms import DONE_KINDS
from wise_tally.web.forms.choices import Pair, pairs_of
from wise_tally.web.page_query import Link
from wise_tally.web.paging import neighbours, page_of
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.viewing import PageRequest

# Entries that stand open; earlier ones are folded, and turned over.
SHOWN, PAGE = 15, 50
NEXT = 20
KINDS = {"": "all", "change": "changes", "activity": "activities", "note": "notes"}


@dataclass(frozen=True)
class Entry:
    """One entry: when, of which kind, what in phrases, who, why. `void`: undone at once; `key`: of an activity or a note."""

    at: datetime
    changes: tuple[str, ...]
    who: str
    reason: str = ""
    void: bool = False
    kind: Literal["change", "activity", "note"] = "change"
    key: str = ""

    @property
    def address(self) -> str:
        """Where an activity or a note is changed."""
        return reverse(f"customers:{self.kind}", args=[self.key])


def journal_of(request: PageRequest, about: About, ends_at: datetime, changes: Sequence[Entry] = ()) -> dict[str, Any]:
    """The entries before a moment on the page asked for, what is planned as it is now, and whom the viewer may plan for."""
    kind = one_of(request.GET.get("journal", ""), KINDS, "is not a kind of entry")
    activities = about.activities.select_related("person").order_by("at", "pk")
    planned = activities.filter(status="planned")
    done = _shown(activities.exclude(status="planned").filter(at__lt=ends_at).reverse(), kind in ("", "activity"))
    notes = about.notes.filter(at__lt=ends_at).select_related("person").order_by("-at", "-pk")
    notes, changes = _shown(notes, kind in ("", "note")), changes if kind in ("", "change") else ()
    page = page_of(request, len(changes) + done.count() + notes.count(), PAGE)
    entries = [
        *changes,
        *(
            Entry(a.at, (f"{as_words(a.kind)}: {a.subject}",), _name(a.person), kind="activity", key=a.key)
            for a in done[: page.last]
        ),
        *(Entry(n.at, (n.text,), _name(n.person), kind="note", key=n.key) for n in notes[: page.last]),
    ]
    entries.sort(key=lambda entry: entry.at, reverse=True)
    opened = page.first + SHOWN if page.number == 1 else page.last

    def query(**changed: str) -> str:
        own = {k: v for k, v in request.GET.items() if k != "page"}
        return urlencode({k: v for k, v in (own | changed).items() if v})

    return {
        "planned": planned[:NEXT],
        "planned_later": max(0, planned.count() - NEXT),
        "activity_kinds": DONE_KINDS,
        "repeats": REPEATS,
        "journal": entries[page.first : opened],
        "earlier": entries[opened : page.last],
        "journal_kinds": [
            Link(words, query(journal=value), value == kind)
            for value, words in KINDS.items()
            if value != "change" or not isinstance(about, Account)
        ],
        "turned": {"page": page, **neighbours(page, lambda number: query(page=number))},
        "assignees": assignees(request.viewer) if request.viewer.may(May.CHANGE_DEALS_BELOW) else [],
    }


def _shown(rows: QuerySet[Any], shown: bool) -> QuerySet[Any]:
    return rows if shown else rows.none()


def assignees(viewer: Viewer) -> list[Pair]:
    """The viewer and the people below, by name."""
    reference, day = books.current().reference, today()
    below, working = visible_people(viewer, reference, day), Person.objects.filter(active_to=None)
    people = working if below is None else working.filter(key__in=below | {viewer.key})
    return pairs_of(people.order_by("name"))


def _name(person: Any) -> str:
    return person.name if person else ""
