"""A scratch copy of a standing: deals supposed to be won, lost, moved or resized, and other probabilities."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from wise_tally.core.book import Book, Standing
from wise_tally.core.effect import StageChange, with_changes
from wise_tally.core.ground import LOST, OPEN, WON
from wise_tally.core.money import WHOLE_BP
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


def supposed(book: Book, standing: Standing, what_if: WhatIf) -> Standing:
    """The standing with what is supposed; deals that are not open stay as they are.

    A deal supposed to be won or lost is closed on the standing's day. A stage's probability counts for deals without
    one of their own. Source: own definition.
    """
    changes = stage_changes(book, standing, what_if)
    ground = with_changes(book.ground, changes) if changes else book.ground
    found = replace(book, ground=ground).states(standing.as_of, standing.row) if changes else standing
    names = ("kind", "amount_minor", "expected_close", "category", "probability_bp", "closed_on", "closed_at", "stage")
    columns = {name: getattr(found, name).copy() for name in names}
    for deal, change in what_if.deals.items():
        at = int(np.searchsorted(found.deal, deal))
        if at < len(found.deal) and found.deal[at] == deal and found.kind[at] == OPEN:
            _suppose(book, found, columns, at, change)
    return replace(found, **columns)


def stage_changes(book: Book, standing: Standing, what_if: WhatIf) -> dict[int, StageChange]:
    """What the stages shall be: another probability, the rest as it is on the standing's day."""
    rules, stages = book.ground.rules_on(standing.as_of), book.ground.stages
    return {
        stage: StageChange(probability, rules[stage].category, rules[stage].typical_days, stages[stage].own_probability)
        for stage, probability in what_if.stages.items()
    }


def _suppose(book: Book, standing: Standing, columns: dict[str, np.ndarray], at: int, change: Supposed) -> None:
    if change.amount_minor is not None:
        columns["amount_minor"][at] = change.amount_minor
    if change.expected_close is not None:
        columns["expected_close"][at] = change.expected_close
    if change.probability_bp is not None:
        columns["probability_bp"][at] = change.probability_bp
    if change.outcome:
        kind = OUTCOMES[change.outcome]
        process = book.deals.process[standing.deal[at]]
        stages = [i for i, s in enumerate(book.ground.stages) if s.process == process and s.kind == kind]
        columns["kind"][at], columns["category"][at] = kind, NONE
        columns["probability_bp"][at] = WHOLE_BP if kind == WON else 0
        columns["closed_on"][at], columns["closed_at"][at] = standing.as_of.toordinal(), standing.cut - 1
        columns["stage"][at] = stages[0] if stages else standing.stage[at]
