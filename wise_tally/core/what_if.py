"""A scratch copy of a snapshot: deals supposed to be won, lost, moved or resized, and other probabilities."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.effect import StageChange, with_changes
from wise_tally.core.money import WHOLE_BP
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE

OUTCOMES = {"won": WON, "lost": LOST}


@dataclass(frozen=True)
class Supposed:
    """What is supposed of an open deal; None (or an empty outcome) leaves it as it is. Money in minor units."""

    outcome: str = ""
    amount_minor: int | None = None
    expected_close: int | None = None
    probability_bp: int | None = None


@dataclass(frozen=True)
class WhatIf:
    """What is supposed of deals (by index into the book) and of stages (probability in basis points, by index)."""

    deals: Mapping[int, Supposed] = field(default_factory=dict)
    stages: Mapping[int, int] = field(default_factory=dict)


def supposed(book: Book, snapshot: BookAsOf, what_if: WhatIf) -> BookAsOf:
    """The snapshot with what is supposed; deals that are not open stay as they are.

    A deal supposed to be won or lost is closed on the snapshot's day. A stage's probability counts for deals without
    one of their own. Source: own definition.
    """
    if not what_if.deals and not what_if.stages:
        return snapshot
    changes = stage_changes(book, snapshot, what_if)
    reference = with_changes(book.reference, changes) if changes else book.reference
    states = replace(book, reference=reference).states(snapshot.as_of, snapshot.row) if changes else snapshot
    names = ("kind", "amount_minor", "expected_close", "category", "probability_bp", "closed_on", "closed_at", "stage")
    columns = {name: getattr(states, name).copy() for name in names}
    for deal, change in what_if.deals.items():
        row = int(np.searchsorted(states.deal, deal))
        if row < len(states.deal) and states.deal[row] == deal and states.kind[row] == OPEN:
            _suppose(book, states, columns, row, change)
    return replace(states, **columns)


def stage_changes(book: Book, snapshot: BookAsOf, what_if: WhatIf) -> dict[int, StageChange]:
    """What the stages shall be: another probability, the rest as it is on the snapshot's day."""
    rules, stages = book.reference.rules_on(snapshot.as_of), book.reference.stages
    return {
        stage: StageChange(probability, rules[stage].category, rules[stage].typical_days, stages[stage].own_probability)
        for stage, probability in what_if.stages.items()
    }


def _suppose(book: Book, snapshot: BookAsOf, columns: dict[str, np.ndarray], row: int, change: Supposed) -> None:
    if change.amount_minor is not None:
        columns["amount_minor"][row] = change.amount_minor
    if change.expected_close is not None:
        columns["expected_close"][row] = change.expected_close
    if change.probability_bp is not None:
        columns["probability_bp"][row] = change.probability_bp
    if change.outcome:
        kind = OUTCOMES[change.outcome]
        process = book.deals.process[snapshot.deal[row]]
        stages = [i for i, s in enumerate(book.reference.stages) if s.process == process and s.kind == kind]
        columns["kind"][row], columns["category"][row] = kind, NONE
        columns["probability_bp"][row] = WHOLE_BP if kind == WON else 0
        columns["closed_on"][row], columns["closed_at"][row] = snapshot.as_of.toordinal(), snapshot.cut - 1
        columns["stage"][row] = stages[0] if stages else snapshot.stage[row]
