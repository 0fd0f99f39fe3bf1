"""Done activities as the core counts them: by person, kind and local day."""

from datetime import UTC, datetime, timedelta

import numpy as np

from wise_tally.core.activity import KINDS, DoneActivities
from wise_tally.core.calendar import Period, local_days, midnight_ending
from wise_tally.deals.models import Activity
from wise_tally.org.models import Person
from wise_tally.scope.line import ScopeLine
from wise_tally.shelf.beside import whole_numbers


def done_in(line: ScopeLine, period: Period) -> DoneActivities:
    """All done activities of a period up to the as-of day, whoever did them; those of nobody are passed over."""
    zone = line.book.ground.time_zone
    last = min(period.ends_on, line.as_of)
    first, end = (midnight_ending(day, zone) for day in (period.starts_on - timedelta(days=1), last))
    span = {"at__gte": datetime.fromtimestamp(first, UTC), "at__lt": datetime.fromtimestamp(end, UTC)}
    numbers = list(Person.objects.order_by("pk").values_list("pk", flat=True))
    index = np.full(max(numbers, default=0) + 1, -1, dtype=np.int64)
    index[numbers] = np.arange(len(numbers))
    parts = []
    for place, kind in enumerate(KINDS):
        rows = Activity.objects.filter(kind=kind, person__isnull=False, **span).exclude(status="planned").order_by()
        found = whole_numbers(rows.values_list("person_id", "at"), 2)
        parts.append(np.column_stack([index[found[:, 0]], np.full(len(found), place), local_days(found[:, 1], zone)]))
    table, number = np.unique(np.vstack(parts), axis=0, return_counts=True)
    return DoneActivities(table[:, 0], table[:, 1], table[:, 2], number.astype(np.int64))
