"""The audit as sentences: what somebody did, to what, and its outcome."""

import re
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import date, datetime
from typing import Any

from django.db.models import Q, QuerySet

from wise_tally.domain import formats
from wise_tally.domain.org.models import AuditEntry
from wise_tally.domain.org.records import expected_values

# Actions are written down by fixed names, so that entries of any age are found; people read these words.
WORDS = (
    ("change put back", "change undone"),
    ("quotas put back", "quota change undone"),
    ("stage rule taken back", "stage setting removed"),
    ("finding put aside", "finding hidden"),
    ("finding taken back", "finding shown again"),
    ("lead taken in", "lead added"),
    ("lead dropped", "lead disqualified"),
    ("lead taken up again", "lead reopened"),
    ("handed over", "transferred"),
    ("handed out", "downloaded"),
    ("hand-over", "transfer"),
    ("credit divided", "credit split changed"),
    ("cells held", "cells locked"),
    ("calls due on", "due day of submitted forecasts set"),
    ("workspace begun", "workspace created"),
    ("opened to a viewer", "access of a viewer set"),
    ("tally: ", "report "),
    ("tally", "report"),
    ("view: ", "view "),
    ("taken away", "deleted"),
    (" away", " deleted"),
    ("dashboard made", "dashboard created"),
    ("demo made", "demo data created"),
    ("token given", "token created"),
    ("sign-in given", "sign-in created"),
    ("notice", "notification"),
)
NOTHING: tuple[Any, ...] = (None, "", [], {})
DAY = re.compile(r"\d{4}-\d\d-\d\d")
MOMENT = re.compile(DAY.pattern + r"T[\d:.]+\+\d\d:\d\d")


def entries_of(
    who: str, find: str, first: datetime | None, last: datetime | None, about: Callable[[str], Q]
) -> QuerySet[AuditEntry]:
    """Entries of a person (as text), with all of these words as people read them, from one moment to before another, newest first.

    `about` tells which entries are about records whose names hold a word.
    """
    actions = set(AuditEntry.objects.values_list("action", flat=True).distinct()) if find else set()
    entries = AuditEntry.objects.order_by("-pk")
    if who:
        entries = entries.filter(who=who)
    for word in find.split():
        anywhere = (
            Q(detail__icontains=word) | Q(action__icontains=word) | Q(before__icontains=word) | Q(after__icontains=word)
        )
        read_so = [action for action in actions if word.casefold() in action_in_words(action).casefold()]
        entries = entries.filter(anywhere | Q(action__in=read_so) | about(word))
    return entries.filter(**{"at__gte": first} if first else {}, **{"at__lt": last} if last else {})


def people_of() -> list[str]:
    """Everybody who stands in the audit, by name."""
    return list(AuditEntry.objects.exclude(who="").order_by("who").values_list("who", flat=True).distinct())


def action_in_words(action: str) -> str:
    """What was done, in the words of the pages."""
    for code, words in WORDS:
        action = action.replace(code, words)
    return action


def changed_values(entry: AuditEntry) -> tuple[dict[str, Any], dict[str, Any]]:
    """Kept values before and after, by name; empty where only a text was written down."""
    return _flat(expected_values(entry.before)), _flat(expected_values(entry.after))


def change_in_words(entry: AuditEntry, names: Mapping[tuple[str, Any], str] | None = None) -> str:
    """What was before and what after: of kept values those that differ, a phrase each; else both texts.

    `names` tells what people call the record whose identifier is a value, by the value's name and the identifier.
    """
    before, after = changed_values(entry)
    if not before and not after:
        return " → ".join(text for text in (entry.before, entry.after) if text)

    def words_of(name: str, values: dict[str, Any]) -> str:
        value = values.get(name)
        return (names or {}).get((name, str(value))) or _in_words(name, value)

    changed = [name for name in before | after if before.get(name) != after.get(name)]
    if not entry.before or not entry.after:
        only = after or before
        return "; ".join(f"{_words(name)} {words_of(name, only)}" for name in changed if only[name] not in NOTHING)
    return "; ".join(f"{_words(name)} {words_of(name, before)} → {words_of(name, after)}" for name in changed)


def _flat(values: dict[str, Any]) -> dict[str, Any]:
    own = values.get("own")
    return {name: v for name, v in values.items() if name != "own"} | (own if isinstance(own, dict) else {})


def _words(name: str) -> str:
    return name.removesuffix("_minor").removesuffix("_bp").replace("_", " ")


def _in_words(name: str, value: Any) -> str:
    """A kept value as people write it: money, rates, dates and moments, kinds of things."""
    if value in NOTHING:
        return "none"
    if isinstance(value, list):
        return f"{len(value)} rows" if isinstance(value[0], dict) else ", ".join(map(str, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int) and name.endswith(("_minor", "_bp")):
        return formats.money(value) if name.endswith("_minor") else formats.points(value)
    text = formats.plain_number(value) if isinstance(value, float) else str(value)
    # What only looks like a day, such as a campaign named 2026-00-00, stays as it was typed.
    with suppress(ValueError):
        if MOMENT.fullmatch(text):
            return formats.moment(datetime.fromisoformat(text))
        if DAY.fullmatch(text):
            return formats.day(date.fromisoformat(text))
    return formats.as_words(text) if name in ("kind", "status") else ", ".join(text.splitlines())
