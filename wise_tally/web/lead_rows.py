"""Leads that a viewer may see, as the core counts them."""

from collections.abc import Iterable

import numpy as np
from django.db.models import QuerySet

from wise_tally.core.leads import STATUSES, LeadRows
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Lead
from wise_tally.web.deal_columns import attributes_of
from wise_tally.web.filter_line import FilterLine


def lead_rows(line: FilterLine, leads: "QuerySet[Lead, Lead]") -> tuple[list[str], LeadRows]:
    """Names of the sources, and all these leads told apart by source."""
    columns = ("source", "owner__key", "created_at", "closed_at", "status", "deal_id")
    rows = list(leads.order_by("pk").values_list(*columns))
    names = sorted({row[0] for row in rows if row[0]})
    source = {name: index for index, name in enumerate(names)}
    people = {person.key: index for index, person in enumerate(line.book.reference.people)}
    return names, LeadRows(
        _column(source.get(row[0], NONE) for row in rows),
        _column(people.get(row[1], NONE) for row in rows),
        _column(int(row[2].timestamp()) for row in rows),
        _column(int(row[3].timestamp()) if row[3] else 0 for row in rows),
        _column(STATUSES.index(row[4]) if row[4] in STATUSES else 0 for row in rows),
        attributes_of(line).places(_column(row[5] or 0 for row in rows)),
    )


def _column(values: Iterable[int]) -> Ints:
    return np.fromiter(values, dtype=np.int64)
