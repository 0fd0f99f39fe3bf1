"""Entries of the audit as people read them: what was done in the words of the pages, records by their names."""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Model

from wise_tally.domain.dashboards.models import Dashboard, Tally
from wise_tally.domain.deals.models import Account, Contact, Deal, Lead
from wise_tally.domain.org.audit_words import action_in_words, change_in_words
from wise_tally.domain.org.models import AuditEntry, Person

# By the first word of an action, whose key its detail begins with.
RECORDS: dict[str, type[Model]] = {
    **dict.fromkeys(("deal", "credit", "checklist", "file"), Deal),
    **dict.fromkeys(("sign-in", "meeting", "token", "rate", "opened", "password", "brief"), Person),
    "account": Account,
    "contact": Contact,
    "lead": Lead,
    "dashboard": Dashboard,
    "tally": Tally,
}
# What these are about stands in what changed; their keys tell nobody anything.
NAMELESS = ("activity", "note", "action", "view", "finding")


@dataclass(frozen=True)
class Told:
    """An entry in words: when, by whom, what was done, to what, and what became of it."""

    at: datetime
    who: str
    action: str
    subject: str
    change: str


def told(entries: Iterable[AuditEntry]) -> list[Told]:
    """The entries in words; each kind of record is asked once for its names."""
    listed = list(entries)
    wanted: dict[type[Model], set[str]] = defaultdict(set)
    for entry in listed:
        if model := RECORDS.get(_kind(entry)):
            wanted[model].add(_key(entry))
    names = {model: _names(model, keys) for model, keys in wanted.items()}
    return [
        Told(
            entry.at,
            entry.who or "System",
            action_in_words(entry.action),
            _subject(entry, names.get(RECORDS.get(_kind(entry), Model), {})),
            change_in_words(entry),
        )
        for entry in listed
    ]


def _names(model: Any, keys: set[str]) -> dict[str, str]:
    return dict(model.objects.filter(key__in=keys).values_list("key", "name"))


def _kind(entry: AuditEntry) -> str:
    return entry.action.partition(" ")[0].rstrip(":")


def _key(entry: AuditEntry) -> str:
    return entry.detail.partition(" ")[0]


def _subject(entry: AuditEntry, names: dict[str, str]) -> str:
    if _kind(entry) in NAMELESS:
        return ""
    return names.get(_key(entry)) or entry.detail
