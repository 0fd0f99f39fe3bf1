"""Somebody leaves: from the day after the last one no target of theirs holds."""

from collections import defaultdict
from datetime import date, datetime

from django.db import transaction

from wise_tally.core.money import divide_half_even
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.targets.actions import QuotaCell, QuotaKind, set_quotas
from wise_tally.domain.targets.models import Quota


@transaction.atomic
def end_targets(viewer: Viewer, reference: ReferenceData, person_key: str, last_day: date, now: datetime) -> int:
    """Set a person's targets after a day to 0, and cut those that the day falls in to their days up to it; returns how many.

    Each is a new version of its span, so earlier days read as before and the change can be undone in the quota plan.
    """
    rows = Quota.objects.filter(subject="person", subject_key=person_key, ends_on__gt=last_day)
    present = {(row.starts_on, row.ends_on, _kind(row)): row for row in rows.order_by("set_at", "pk")}
    cells: dict[QuotaKind, list[QuotaCell]] = defaultdict(list)
    for (starts_on, ends_on, kind), row in present.items():
        days = max(0, (last_day - starts_on).days + 1)
        value = divide_half_even(row.value * days, (ends_on - starts_on).days + 1)
        if value != row.value:
            cells[kind].append(QuotaCell("person", person_key, starts_on, ends_on, value, row.value))
    return sum(set_quotas(viewer, reference, of_kind, now, kind, "last day set") for kind, of_kind in cells.items())


def _kind(row: Quota) -> QuotaKind:
    return QuotaKind(row.metric, row.product_group, row.deal_type, row.source, row.activity_kind)
