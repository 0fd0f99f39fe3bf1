"""Leads that a viewer may see, as the core counts them."""

from collections.abc import Iterable, Sequence

import numpy as np
from django.db.models import Q, QuerySet

from wise_tally.book.attributes import statement_of, stored_rows
from wise_tally.core.leads import STATUSES, LeadRows
from wise_tally.core.money import Ints
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Lead, LeadMove
from wise_tally.domain.process.models import LeadStep
from wise_tally.web.deal_columns import attributes_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.remembered import read_once


def lead_rows(line: FilterLine, leads: "QuerySet[Lead, Lead]") -> tuple[list[str], LeadRows]:
    """Names of the sources, and all these leads by source."""
    cache_key = ("leads", statement_of(leads))
    return read_once(line.book, cache_key, lambda: _lead_rows(line, leads))


def _lead_rows(line: FilterLine, leads: "QuerySet[Lead, Lead]") -> tuple[list[str], LeadRows]:
    columns = ("source", "owner__key", "created_at", "closed_at", "status", "deal_id", "pk")
    rows = stored_rows(leads.order_by("pk").values_list(*columns))
    sources, owners, created, closed, statuses, deals, numbers = (
        zip(*rows, strict=True) if rows else [()] * len(columns)
    )
    names = sorted(set(sources) - {""})
    source = {name: index for index, name in enumerate(names)}
    people, status = line.book.reference.person_index, {word: index for index, word in enumerate(STATUSES)}
    return names, LeadRows(
        _column(source.get(name, NONE) for name in sources),
        _column(people.get(key, NONE) for key in owners),
        _column(created),
        _column(moment or 0 for moment in closed),
        _column(status.get(word, 0) for word in statuses),
        attributes_of(line).places(_column(deal or 0 for deal in deals)),
        _entered(leads, numbers),
    )


def lead_steps() -> list[LeadStep]:
    """The steps of the leads' pipeline in their order, retired ones that were taken among them."""
    taken = LeadMove.objects.values("step")
    return list(LeadStep.objects.filter(Q(retired=False) | Q(pk__in=taken)).order_by("position", "pk"))


def _entered(leads: "QuerySet[Lead, Lead]", numbers: Sequence[int]) -> Ints:
    """When each lead first took each step."""
    steps = {step.pk: index for index, step in enumerate(lead_steps())}
    index_of = {number: index for index, number in enumerate(numbers)}
    moments = np.zeros((len(numbers), len(steps)), dtype=np.int64)
    moves = LeadMove.objects.filter(lead__in=leads.values("pk")).order_by("-at").values_list("lead_id", "step_id", "at")
    for lead, step, moment in stored_rows(moves):
        moments[index_of[lead], steps[step]] = moment
    return moments


def _column(values: Iterable[int]) -> Ints:
    return np.fromiter(values, dtype=np.int64)
