"""Setting quotas: each change is a new version of its span, so that what stood before stays readable."""

from dataclasses import dataclass
from datetime import date, datetime

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.org.access import May, Viewer
from wise_tally.org.actions import audit
from wise_tally.org.book_number import ground_changed
from wise_tally.targets.models import Metric, Quota


@dataclass(frozen=True)
class QuotaCell:
    """A month's won-amount quota of a subject, in minor units; `seen` is what the person saw when typing."""

    subject: str
    subject_key: str
    starts_on: date
    ends_on: date
    value: int
    seen: int | None


class QuotaChanged(Exception):
    """Somebody else set this cell meanwhile."""

    def __init__(self, cell: QuotaCell, now: int | None) -> None:
        super().__init__("The cell was set by somebody else since the page was opened.")
        self.cell, self.now = cell, now


class QuotaOverlaps(Exception):
    """A quota of another span covers part of the month."""

    def __init__(self, cell: QuotaCell, other: Quota) -> None:
        super().__init__(
            f"A quota from {other.starts_on} to {other.ends_on} covers part of this month; accepted: spans that share no day."
        )
        self.cell = cell


def plain_quotas(subject: str, key: str) -> QuerySet[Quota]:
    """Won-amount quotas of a subject without filters."""
    return Quota.objects.filter(
        subject=subject,
        subject_key=key,
        metric=Metric.WON_AMOUNT,
        product_group="",
        deal_type="",
        source="",
        activity_kind="",
    )


@transaction.atomic
def set_quotas(viewer: Viewer, cells: list[QuotaCell], now: datetime) -> int:
    """Write all cells or none; returns how many. Raises QuotaChanged or QuotaOverlaps."""
    viewer.require(May.SET_RULES)
    moment = now.replace(microsecond=0)
    for cell in cells:
        rows = plain_quotas(cell.subject, cell.subject_key)
        overlapping = rows.filter(starts_on__lte=cell.ends_on, ends_on__gte=cell.starts_on)
        other = overlapping.exclude(starts_on=cell.starts_on, ends_on=cell.ends_on).first()
        if other is not None:
            raise QuotaOverlaps(cell, other)
        last = overlapping.order_by("set_at", "pk").last()
        current = last.value if last else None
        if current not in (cell.seen, cell.value):
            raise QuotaChanged(cell, current)
        if last is not None and last.set_at == moment:
            Quota.objects.filter(pk=last.pk).update(value=cell.value)
        else:
            Quota.objects.create(
                subject=cell.subject,
                subject_key=cell.subject_key,
                metric=Metric.WON_AMOUNT,
                starts_on=cell.starts_on,
                ends_on=cell.ends_on,
                value=cell.value,
                set_at=moment if last else None,
            )
    if cells:
        audit(viewer, "quotas set", f"{len(cells)} cells", now)
        ground_changed()
    return len(cells)
