"""Done activities as the core counts them: by person, kind and local day."""

from datetime import UTC, datetime, timedelta

import numpy as np
from django.db.models import Case, Value, When

from wise_tally.book.attributes import whole_numbers
from wise_tally.core.activity import KINDS, DoneActivities
from wise_tally.core.calendar import Period, local_days, midnight_ending
from wise_tally.core.derived import derived
from wise_tally.domain.deals.models import Activity
from wise_tally.domain.org.models import Person
from wise_tally.web.filter_line import FilterLine

# A person, a day and a kind in one number, so that counting them is one sort.
PERSON_BITS, KIND_BITS = 28, 4


def done_in(line: FilterLine, period: Period) -> DoneActivities:
    """All done activities of a period up to the as-of day, whoever did them; those of nobody are passed over."""
    return _done_in(line.firm, period)


@derived()
def _done_in(line: FilterLine, period: Period) -> DoneActivities:
    zone = line.book.reference.time_zone
    last = min(period.ends_on, line.as_of)
    first, end = (midnight_ending(day, zone) for day in (period.starts_on - timedelta(days=1), last))
    span = {"at__gte": datetime.fromtimestamp(first, UTC), "at__lt": datetime.fromtimestamp(end, UTC)}
    numbers = list(Person.objects.order_by("pk").values_list("pk", flat=True))
    index = np.full(max(numbers, default=0) + 1, -1, dtype=np.int64)
    index[numbers] = np.arange(len(numbers))
    kinds = Case(*(When(kind=kind, then=Value(index)) for index, kind in enumerate(KINDS)), default=Value(-1))
    rows = Activity.objects.filter(person__isnull=False, **span).exclude(status="planned").order_by()
    table = whole_numbers(rows.values_list("person_id", kinds, "at"), 3)
    table = table[table[:, 1] >= 0]
    day = local_days(table[:, 2], zone)
    packed = (index[table[:, 0]] << PERSON_BITS) | (day << KIND_BITS) | table[:, 1]
    unique, number = np.unique(packed, return_counts=True)
    days = (unique >> KIND_BITS) & ((1 << (PERSON_BITS - KIND_BITS)) - 1)
    return DoneActivities(unique >> PERSON_BITS, unique & ((1 << KIND_BITS) - 1), days, number.astype(np.int64))
