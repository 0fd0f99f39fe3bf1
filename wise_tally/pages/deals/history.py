"""Everything that happened to a deal as a readable history: its revisions, and what was saved beside its state."""

from itertools import pairwise

from wise_tally.domain.deals.difference import difference
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.parts import PARTS, lines_total
from wise_tally.domain.formats import day, money, plural
from wise_tally.domain.org.models import AuditEntry, Person
from wise_tally.domain.org.records import expected_values
from wise_tally.pages.deals.customers.journal import Entry


def history(deal: Deal, cut: int) -> list[Entry]:
    """All revisions before the moment `cut`, the newest first; void ones are marked."""
    rows = [
        row
        for row in deal.revisions.select_related("stage", "category", "owner", "territory").order_by("pk")
        if row.effective_at.timestamp() < cut
    ]
    names = dict(Person.objects.filter(key__in={row.changed_by for row in rows}).values_list("key", "name"))
    entries = [
        Entry(r.effective_at, c, names.get(r.changed_by, r.changed_by), r.reason, r.void) for r, c in _changes(rows)
    ]
    # Of one moment the later row comes first, too.
    return sorted([*_of_parts(deal, cut), *entries[::-1]], key=lambda entry: entry.at, reverse=True)


PART_OF = {f"deal {part.words} changed": name for name, part in PARTS.items()}


def _of_parts(deal: Deal, cut: int) -> list[Entry]:
    """What was saved beside the state, from the audit."""
    rows = AuditEntry.objects.filter(action__in=[*PART_OF, "file added", "file taken away"], detail=deal.key)
    found = []
    for row in rows.select_related("person").order_by("-pk"):
        if row.at.timestamp() < cut:
            words = _part_words(row) if row.action in PART_OF else (f"{row.action}: {row.after or row.before}",)
            found.append(Entry(row.at, words, row.person.name if row.person else "", "", False))
    return found


def _part_words(row: AuditEntry) -> tuple[str, ...]:
    """What changed in a part, a phrase each."""
    before, after, name = expected_values(row.before), expected_values(row.after), PART_OF[row.action]
    if name == "lines":
        amounts = [money(lines_total(value.get("rows", []))) for value in (before, after)]
        return (f"lines {amounts[0]} → {amounts[1]}",)
    if "rows" in after:
        return (f"{PARTS[name].words}: {plural(len(after['rows']), 'row')}, before {len(before.get('rows', []))}",)
    own = {**before.pop("own", {})}, {**after.pop("own", {})}
    before, after = {**before, **own[0]}, {**after, **own[1]}
    changed = [key for key in after | before if before.get(key) != after.get(key)]
    return tuple(f"{key.replace('_', ' ')} {before.get(key) or 'none'} → {after.get(key) or 'none'}" for key in changed)


def _changes(rows: list[DealRevision]) -> list[tuple[DealRevision, tuple[str, ...]]]:
    if not rows:
        return []
    first = (
        f"created in {rows[0].stage.name}",
        f"amount {money(rows[0].amount_minor)}",
        f"expected {day(rows[0].expected_close)}",
    )
    return [(rows[0], first), *((now, difference(then, now)) for then, now in pairwise(rows))]
