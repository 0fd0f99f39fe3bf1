"""Setting quotas: each change is a new version of its span, so that what stood before stays readable."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.day_reader import WEEKDAYS
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.formats import day, money, plural
from wise_tally.domain.org.access import May, Viewer, visible_people, visible_teams
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person, Workspace
from wise_tally.domain.org.records import InUse
from wise_tally.domain.refusals import WriteConflict
from wise_tally.domain.targets.models import MONEY_METRICS, Call, Metric, Quota, QuotaChange, QuotaHold


@dataclass(frozen=True)
class QuotaKind:
    """What is planned: a metric, with a product group, deal type, source or activity kind where it counts only these."""

    metric: str = Metric.WON_AMOUNT
    product_group: str = ""
    deal_type: str = ""
    source: str = ""
    activity_kind: str = ""

    @property
    def is_money(self) -> bool:
        """Whether values are minor units; else they are hundredths."""
        return self.metric in MONEY_METRICS

    @property
    def filters(self) -> tuple[str, str, str, str]:
        """The four filters as the core takes them."""
        return self.product_group, self.deal_type, self.source, self.activity_kind

    @property
    def columns(self) -> dict[str, str]:
        """As columns of a quota row."""
        names = ("product_group", "deal_type", "source", "activity_kind")
        return {"metric": str(self.metric), **dict(zip(names, self.filters, strict=True))}


WON_AMOUNT = QuotaKind()


@dataclass(frozen=True)
class QuotaCell:
    """A span's quota of a subject in the metric's unit; `expected` is what the person saw when typing."""

    subject: str
    subject_key: str
    starts_on: date
    ends_on: date
    value: int
    expected: int | None


class QuotaChanged(Exception):
    """Somebody else set this cell meanwhile."""

    def __init__(self, cell: QuotaCell, now: int | None) -> None:
        super().__init__("Somebody else has changed this cell in the meantime.")
        self.cell, self.now = cell, now


class QuotaOverlaps(Exception):
    """A quota of another span covers part of the span."""

    def __init__(self, cell: QuotaCell, other: Quota) -> None:
        super().__init__(
            f"A quota from {day(other.starts_on)} to {day(other.ends_on)} overlaps this period."
            " Choose dates that do not overlap."
        )
        self.cell = cell


def rows_of(kind: QuotaKind, subject: str, key: str) -> QuerySet[Quota]:
    """Quota rows of a subject and kind."""
    return Quota.objects.filter(subject=subject, subject_key=key, **kind.columns)


@transaction.atomic
def set_quotas(
    viewer: Viewer,
    reference: ReferenceData,
    cells: list[QuotaCell],
    now: datetime,
    kind: QuotaKind = WON_AMOUNT,
    what: str = "typed",
) -> int:
    """Write all cells or none; returns how many. Raises QuotaChanged, QuotaOverlaps or PermissionDenied."""
    _require_planning(viewer, reference, ((c.subject, c.subject_key) for c in cells), now)
    for cell in cells:
        _write(cell, kind, now.replace(microsecond=0))
    if cells:
        quotas = [
            [c.subject, c.subject_key, c.starts_on.isoformat(), c.ends_on.isoformat(), c.expected, c.value]
            for c in cells
        ]
        person = Person.objects.filter(key=viewer.key).first()
        QuotaChange.objects.create(at=now, person=person, what=what, cells={"kind": kind.columns, "cells": quotas})
        was, is_now = (str({f"{row[0]}/{row[1]}/{row[2]}": row[index] for row in quotas[:50]}) for index in (4, 5))
        audit(viewer, "quotas set", f"{plural(len(cells), 'cell')}, {what}", now, was, is_now)
        reference_changed()
    return len(cells)


def _write(cell: QuotaCell, kind: QuotaKind, moment: datetime) -> None:
    rows = rows_of(kind, cell.subject, cell.subject_key)
    overlapping = rows.filter(starts_on__lte=cell.ends_on, ends_on__gte=cell.starts_on)
    other = overlapping.exclude(starts_on=cell.starts_on, ends_on=cell.ends_on).first()
    if other is not None:
        raise QuotaOverlaps(cell, other)
    last = overlapping.order_by("set_at", "pk").last()
    current = last.value if last else None
    if current not in (cell.expected, cell.value):
        raise QuotaChanged(cell, current)
    if last is not None and last.set_at == moment:
        Quota.objects.filter(pk=last.pk).update(value=cell.value)
        return
    Quota.objects.create(
        subject=cell.subject,
        subject_key=cell.subject_key,
        starts_on=cell.starts_on,
        ends_on=cell.ends_on,
        value=cell.value,
        set_at=moment if last else None,
        **kind.columns,
    )


@transaction.atomic
def undo_quotas(viewer: Viewer, reference: ReferenceData, change: QuotaChange, now: datetime) -> int:
    """Put every cell of a saved change back; a cell that had no quota loses its row. All or nothing.

    Raises WriteConflict, or PermissionDenied where a cell is not the viewer's to set.
    """
    _require_planning(viewer, reference, ((row[0], row[1]) for row in change.cells["cells"]), now)
    if change.undone:
        raise WriteConflict("This change was undone already.")
    kind = QuotaKind(**change.cells["kind"])
    for subject, key, starts, ends, before, after in change.cells["cells"]:
        rows = rows_of(kind, subject, key).filter(
            starts_on=date.fromisoformat(starts), ends_on=date.fromisoformat(ends)
        )
        last = rows.order_by("set_at", "pk").last()
        if last is None or last.value != after:
            raise WriteConflict(
                f"{key or 'The company'}, {day(starts)}: this cell was changed later. Undo that change first."
            )
        if before is None and rows.count() == 1:
            last.delete()
        else:
            cell = QuotaCell(subject, key, last.starts_on, last.ends_on, before or 0, after)
            _write(cell, kind, now.replace(microsecond=0))
    QuotaChange.objects.filter(pk=change.pk).update(undone=True)
    count = len(change.cells["cells"])
    audit(viewer, "quotas put back", f"{plural(count, 'cell')}, {change.what}", now)
    reference_changed()
    return count


def may_plan(viewer: Viewer, reference: ReferenceData, subject: str, key: str, today: date) -> bool:
    """Whether the viewer may set quotas of this node: of the own part of the organisation, all of it for those who see all."""
    visible = visible_teams(viewer, reference, today)
    if visible is None:
        return True
    if subject == "team":
        return any(reference.teams[team].key == key for team in visible)
    return subject == "person" and key in (visible_people(viewer, reference, today) or ())


def _require_planning(
    viewer: Viewer, reference: ReferenceData, nodes: Iterable[tuple[str, str]], now: datetime
) -> None:
    viewer.require(May.SET_RULES)
    day = local_day(now, reference.time_zone)
    if not all(may_plan(viewer, reference, *node, day) for node in set(nodes)):
        raise PermissionDenied("Some of these quotas are of another part of the organisation; nothing was changed.")


def recent_changes(viewer: Viewer, reference: ReferenceData, today: date, most: int) -> list[QuotaChange]:
    """The last changes that the viewer could undo, the latest first."""
    changes: list[QuotaChange] = []
    for change in QuotaChange.objects.filter(undone=False).select_related("person").order_by("-pk").iterator(50):
        nodes = {(row[0], row[1]) for row in change.cells["cells"]}
        if all(may_plan(viewer, reference, *node, today) for node in nodes):
            changes.append(change)
        if len(changes) == most:
            break
    return changes


Held = set[tuple[str, str, date, date]]


@transaction.atomic
def set_holds(
    viewer: Viewer, reference: ReferenceData, kind: QuotaKind, shown: Held, wanted: Held, now: datetime
) -> None:
    """Of the cells shown, hold these and free the others."""
    _require_planning(viewer, reference, ((cell[0], cell[1]) for cell in shown), now)
    before = held_cells(kind) & shown
    for subject, key, starts, ends in before - wanted:
        QuotaHold.objects.filter(
            subject=subject, subject_key=key, metric=kind.metric, starts_on=starts, ends_on=ends
        ).delete()
    QuotaHold.objects.bulk_create(
        QuotaHold(subject=subject, subject_key=key, metric=kind.metric, starts_on=starts, ends_on=ends)
        for subject, key, starts, ends in wanted - before
    )
    if before != wanted:
        audit(viewer, "quota cells held", f"{len(wanted)} held", now, f"{len(before)} held")


def held_cells(kind: QuotaKind) -> Held:
    """Cells that spreading leaves as they are."""
    rows = QuotaHold.objects.filter(metric=kind.metric)
    return set(rows.values_list("subject", "subject_key", "starts_on", "ends_on"))


def require_untargeted(subject: str, key: str, name: str) -> None:
    """Raise InUse while quotas or calls refer to a node; they name it by identifier, which no foreign key guards."""
    rows = {"subject": subject, "subject_key": key}
    quotas, calls = Quota.objects.filter(**rows).count(), Call.objects.filter(**rows).count()
    if quotas or calls:
        raise InUse(
            f"{name} has {plural(quotas, 'quota')} and {plural(calls, 'submitted forecast')} and cannot be deleted. "
            "Set a last day or move it instead."
        )


class CallRefused(Exception):
    """A forecast that cannot be submitted like this; the message says what is accepted."""


@dataclass(frozen=True)
class CallFor:
    """Whose call it is, and for which days."""

    subject: str
    subject_key: str
    starts_on: date
    ends_on: date


@transaction.atomic
def make_call(
    viewer: Viewer, reference: ReferenceData, of: CallFor, amount_minor: int, reason: str, now: datetime
) -> Call:
    """Say what a period will bring; earlier calls are kept. Raises PermissionDenied or CallRefused."""
    if not may_call(viewer, reference, of.subject, of.subject_key, local_day(now, reference.time_zone)):
        raise PermissionDenied("You cannot submit this forecast. Reps submit their own, managers those of their team.")
    if amount_minor < 0:
        raise CallRefused("A forecast cannot be negative. Enter 0 or more.")
    if (of.subject, of.subject_key) != ("person", viewer.key) and not reason.strip():
        raise CallRefused("No reason is given. Say why; it is kept with the amount.")
    person = Person.objects.get(key=viewer.key)
    call = Call.objects.create(
        subject=of.subject,
        subject_key=of.subject_key,
        starts_on=of.starts_on,
        ends_on=of.ends_on,
        made_at=now.replace(microsecond=0),
        made_by=person,
        amount_minor=amount_minor,
        reason=reason[:10_000],
    )
    audit(
        viewer,
        "call made",
        f"{of.subject} {of.subject_key} {of.starts_on} to {of.ends_on}",
        now,
        after=money(amount_minor) + (f"; {reason[:500]}" if reason else ""),
    )
    reference_changed()
    return call


def calling(viewer: Viewer, reference: ReferenceData, today: date) -> Callable[[str, str], bool]:
    """Whether the viewer may call for a node (subject and identifier): a rep for the own person, a manager or administrator for those
    below. Asked once for all rows of a page.
    """
    if not Person.objects.filter(key=viewer.key).exists() or not viewer.may(May.CHANGE_OWN_DEALS):
        return lambda subject, key: False
    visible, people = visible_teams(viewer, reference, today), visible_people(viewer, reference, today)
    teams = {reference.teams[team].key for team in visible or ()}

    def allowed(subject: str, key: str) -> bool:
        if subject == "person" and key == viewer.key:
            return True
        if viewer.sees_own_only:
            return False
        if subject == "company" or visible is None:
            return visible is None
        if subject == "team":
            return key in teams
        return subject == "person" and key in (people or ())

    return allowed


def may_call(viewer: Viewer, reference: ReferenceData, subject: str, key: str, today: date) -> bool:
    """Whether the viewer may call for one node."""
    return calling(viewer, reference, today)(subject, key)


@transaction.atomic
def set_calls_due(viewer: Viewer, weekday: int | None, now: datetime) -> None:
    """The weekday by which calls are due, Monday 0, or none."""
    viewer.require(May.SET_RULES)
    workspace = Workspace.current()
    before = workspace.calls_due_on
    workspace.calls_due_on = weekday
    workspace.save()
    named = ["none" if day is None else WEEKDAYS[day] for day in (before, weekday)]
    audit(viewer, "calls due on", "", now, *named)
