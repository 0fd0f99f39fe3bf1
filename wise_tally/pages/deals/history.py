"""Everything that happened to a deal as a readable history: its revisions, and what was saved beside its state."""

from itertools import pairwise

from wise_tally.domain.deals.difference import difference
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.parts import PARTS, lines_total
from wise_tally.domain.formats import day, money, plural
from wise_tally.domain.org.models import AuditEntry, Person
from wise_tally.domain.org.records import expected_values
from wise_tally.pages.deals.customers.journal import Entry
from wise_tally.web.audit_entries import AuditLine, audit_lines


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
    before = [row for row in rows.select_related("person").order_by("-pk") if row.at.timestamp() < cut]
    return [
        Entry(row.at, (_part_words(row, one),), row.person.name if row.person else "", "", False)
        for row, one in zip(before, audit_lines(before), strict=True)
    ]


def _part_words(row: AuditEntry, one: AuditLine) -> str:
    """What changed in a part, or what was done with a file."""
    if row.action not in PART_OF:
        return f"{one.action}: {one.change}"
    before, after, name = expected_values(row.before), expected_values(row.after), PART_OF[row.action]
    if name == "lines":
        amounts = [money(lines_total(value.get("rows", []))) for value in (before, after)]
        return f"lines {amounts[0]} → {amounts[1]}"
    if "rows" in after:
        return f"{PARTS[name].words}: {plural(len(after['rows']), 'row')}, before {len(before.get('rows', []))}"
    return one.change


def _changes(rows: list[DealRevision]) -> list[tuple[DealRevision, tuple[str, ...]]]:
    if not rows:
        return []
    first = (
        f"created in {rows[0].stage.name}",
        f"amount {money(rows[0].amount_minor)}",
        f"expected {day(rows[0].expected_close)}",
    )
    return [(rows[0], first), *((now, difference(then, now)) for then, now in pairwise(rows))]
