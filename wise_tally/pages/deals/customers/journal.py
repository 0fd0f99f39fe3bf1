"""The journal of a deal, an account or a lead: what changed, was talked about and written down, the newest first."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.domain.deals.activity_actions import REPEATS, About
from wise_tally.domain.formats import as_words
from wise_tally.domain.org.access import May, Viewer, visible_people
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Person

# Entries that stand open; earlier ones are folded.
SHOWN = 15


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


def journal_of(
    about: About, ends_at: datetime, changes: Sequence[Entry] = (), viewer: Viewer | None = None
) -> dict[str, Any]:
    """The entries before a moment, as the page shows them, what is planned as it is now, and whom the viewer may plan for."""
    activities = about.activities.select_related("person").order_by("at")
    done = activities.exclude(status="planned").filter(at__lt=ends_at)
    notes = about.notes.filter(at__lt=ends_at).select_related("person")
    entries = [
        *changes,
        *(
            Entry(a.at, (f"{as_words(a.kind)}: {a.subject}",), _name(a.person), kind="activity", key=a.key)
            for a in done
        ),
        *(Entry(n.at, (n.text,), _name(n.person), kind="note", key=n.key) for n in notes),
    ]
    entries.sort(key=lambda entry: entry.at, reverse=True)
    return {
        "planned": activities.filter(status="planned"),
        "repeats": REPEATS,
        "journal": entries[:SHOWN],
        "earlier": entries[SHOWN:],
        "assignees": _assignees(viewer) if viewer and viewer.may(May.CHANGE_DEALS_BELOW) else [],
    }


def _assignees(viewer: Viewer) -> list[Person]:
    """The viewer and the people below, by name."""
    reference, day = books.current().reference, today()
    below, working = visible_people(viewer, reference, day), Person.objects.filter(active_to=None)
    return list((working if below is None else working.filter(key__in=below | {viewer.key})).order_by("name"))


def _name(person: Any) -> str:
    return person.name if person else ""
