"""The journal of a deal, an account or a lead: what changed, was talked about and written down, the newest first."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from wise_tally.domain.deals.activity_actions import About
from wise_tally.domain.formats import as_words

# Entries that stand open; earlier ones are folded.
SHOWN = 15


@dataclass(frozen=True)
class Entry:
    """One entry: when, of which kind, what in phrases, who, why. `void`: undone at once; `note`: the key of a note."""

    at: datetime
    changes: tuple[str, ...]
    who: str
    reason: str = ""
    void: bool = False
    kind: Literal["change", "activity", "note"] = "change"
    note: str = ""


def journal_of(about: About, ends_at: datetime, changes: Sequence[Entry] = ()) -> dict[str, Any]:
    """The entries before a moment, as the page shows them, and what is planned as it is now."""
    activities = about.activities.select_related("person").order_by("at")
    done = activities.exclude(status="planned").filter(at__lt=ends_at)
    notes = about.notes.filter(at__lt=ends_at).select_related("person")
    entries = [
        *changes,
        *(Entry(a.at, (f"{as_words(a.kind)}: {a.subject}",), _name(a.person), kind="activity") for a in done),
        *(Entry(n.at, (n.text,), _name(n.person), kind="note", note=n.key) for n in notes),
    ]
    entries.sort(key=lambda entry: entry.at, reverse=True)
    return {
        "planned": activities.filter(status="planned"),
        "journal": entries[:SHOWN],
        "earlier": entries[SHOWN:],
    }


def _name(person: Any) -> str:
    return person.name if person else ""
