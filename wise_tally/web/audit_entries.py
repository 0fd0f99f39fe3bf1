"""Entries of the audit as people read them: what was done in the words of the pages, records by their names."""

import re
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Model, Q

from wise_tally.domain.dashboards.models import Dashboard, Tally
from wise_tally.domain.deals.models import Account, Contact, Deal, Lead, Partner
from wise_tally.domain.org.audit_words import action_in_words, change_in_words, changed_values
from wise_tally.domain.org.models import AuditEntry, Person, Team, Territory
from wise_tally.domain.process.models import LeadStep

# By the first word of an action, whose key its detail begins with; or of a detail that begins with what it is about.
RECORDS: dict[str, type[Model]] = {
    **dict.fromkeys(("deal", "credit", "checklist", "file"), Deal),
    **dict.fromkeys(("sign-in", "meeting", "token", "rate", "opened", "password", "brief"), Person),
    "account": Account,
    "contact": Contact,
    "lead": Lead,
    "dashboard": Dashboard,
    "tally": Tally,
}
OF_DETAIL: dict[str, type[Model]] = {
    "account": Account,
    "person": Person,
    "partner": Partner,
    "deal": Deal,
    "lead": Lead,
}
# Values that are identifiers of records.
OF_VALUE: dict[str, type[Model]] = {
    **OF_DETAIL,
    "contact": Contact,
    "owner": Person,
    "territory": Territory,
    "team": Team,
    "step": LeadStep,
}
# An identifier behind the name of what it stands for, or of who did it.
IDENTIFIER = re.compile(r" \([\w.:-]+\)(?=$| from | in )")
# Of a word that many names hold, so many are looked for.
MOST_NAMED = 20
# What these are about stands in what changed; their keys mean nothing to people.
NAMELESS = ("activity", "note", "action", "view", "finding")


@dataclass(frozen=True)
class AuditLine:
    """An entry in words: when, by whom, what was done, to what, and its outcome."""

    at: datetime
    who: str
    action: str
    subject: str
    change: str


def audit_lines(entries: Iterable[AuditEntry]) -> list[AuditLine]:
    """The entries in words; each kind of record is asked once for its names."""
    listed = list(entries)
    wanted: dict[type[Model], set[str]] = defaultdict(set)
    for model, key, _ in map(_record, listed):
        wanted[model].add(key)
    values = {pair for entry in listed for one in changed_values(entry) for pair in _identifiers(one)}
    for name, key in values:
        wanted[OF_VALUE[name]].add(key)
    names = {(model, key): name for model, keys in wanted.items() for key, name in _names(model, keys)}
    names_of_values = {(name, key): names.get((OF_VALUE[name], key), "") for name, key in values}
    return [
        AuditLine(
            entry.at,
            person_in_words(entry.who) or "System",
            action_in_words(entry.action),
            _subject(entry, names),
            change_in_words(entry, names_of_values),
        )
        for entry in listed
    ]


def _identifiers(values: dict[str, Any]) -> Iterable[tuple[str, str]]:
    return ((name, key) for name, key in values.items() if name in OF_VALUE and isinstance(key, str) and key)


def about(word: str) -> Q:
    """Entries about records whose names hold a word, of each kind the first ones."""
    condition = Q(pk=None)
    for model in {*RECORDS.values(), *OF_DETAIL.values()}:
        for key in model.objects.filter(name__icontains=word).values_list("key", flat=True)[:MOST_NAMED]:  # type: ignore[attr-defined]
            before = [f"{kind} " for kind, of in OF_DETAIL.items() if of is model]
            if model in RECORDS.values():
                actions = Q(pk=None)
                for kind in (kind for kind, of in RECORDS.items() if of is model):
                    actions |= Q(action__startswith=kind)
                condition |= actions & (Q(detail=key) | Q(detail__startswith=f"{key} "))
            for words in before:
                condition |= Q(detail=f"{words}{key}") | Q(detail__startswith=f"{words}{key} ")
    return condition


def person_in_words(who: str) -> str:
    """Whoever did it by name alone."""
    return IDENTIFIER.sub("", who)


def _names(model: Any, keys: set[str]) -> Iterable[tuple[str, str]]:
    return [] if model is Model else model.objects.filter(key__in=keys).values_list("key", "name")


def _kind(entry: AuditEntry) -> str:
    return entry.action.partition(" ")[0].rstrip(":")


def _record(entry: AuditEntry) -> tuple[type[Model], str, str]:
    """What an entry is about: model (Model itself where none is known), identifier, and the rest of its detail."""
    first, _, rest = entry.detail.partition(" ")
    if model := OF_DETAIL.get(first):
        return (model, *rest.partition(" ")[::2])
    return RECORDS.get(_kind(entry), Model), first, ""


def _subject(entry: AuditEntry, names: dict[tuple[type[Model], str], str]) -> str:
    model, key, rest = _record(entry)
    name = names.get((model, key))
    if not name and _kind(entry) in NAMELESS:
        return ""
    return f"{name} {rest}".strip() if name else IDENTIFIER.sub("", entry.detail)
