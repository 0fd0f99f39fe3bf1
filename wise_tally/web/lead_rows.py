"""Leads that a viewer may see, as the core counts them."""

from collections.abc import Iterable

import numpy as np
from django.db.models import Q, QuerySet

from wise_tally.core.leads import STATUSES, LeadRows
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Lead, LeadMove
from wise_tally.domain.process.models import LeadStep
from wise_tally.web.deal_columns import attributes_of
from wise_tally.web.filter_line import FilterLine


def lead_rows(line: FilterLine, leads: "QuerySet[Lead, Lead]") -> tuple[list[str], LeadRows]:
    """Names of the sources, and all these leads told apart by source."""
    columns = ("source", "owner__key", "created_at", "closed_at", "status", "deal_id", "pk")
    rows = list(leads.order_by("pk").values_list(*columns))
    names = sorted({row[0] for row in rows if row[0]})
    source = {name: index for index, name in enumerate(names)}
    people = line.book.reference.person_index
    return names, LeadRows(
        _column(source.get(row[0], NONE) for row in rows),
        _column(people.get(row[1], NONE) for row in rows),
        _column(int(row[2].timestamp()) for row in rows),
        _column(int(row[3].timestamp()) if row[3] else 0 for row in rows),
        _column(STATUSES.index(row[4]) if row[4] in STATUSES else 0 for row in rows),
        attributes_of(line).places(_column(row[5] or 0 for row in rows)),
        _entered(leads, [row[6] for row in rows]),
    )


def lead_steps() -> list[LeadStep]:
    """The steps of the leads' pipeline in their order, retired ones that were taken among them."""
    taken = LeadMove.objects.values("step")
    return list(LeadStep.objects.filter(Q(retired=False) | Q(pk__in=taken)).order_by("position", "pk"))


def _entered(leads: "QuerySet[Lead, Lead]", numbers: list[int]) -> Ints:
    """When each lead first took each step."""
    steps = {step.pk: index for index, step in enumerate(lead_steps())}
    place = {number: index for index, number in enumerate(numbers)}
    found = np.zeros((len(numbers), len(steps)), dtype=np.int64)
    moves = LeadMove.objects.filter(lead__in=leads.values("pk")).order_by("-at").values_list("lead_id", "step_id", "at")
    for lead, step, at in moves:
        found[place[lead], steps[step]] = int(at.timestamp())
    return found


def _column(values: Iterable[int]) -> Ints:
    return np.fromiter(values, dtype=np.int64)
