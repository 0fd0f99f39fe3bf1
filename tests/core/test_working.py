"""The working of a figure: its terms and deals are those of a plain loop, and every other deal has its reason."""

from collections import Counter
from fractions import Fraction

import pytest

from tests.support.naive import half_even
from tests.support.random_world import random_reading
from wise_tally.core.lines import Filter
from wise_tally.core.trees import NONE
from wise_tally.core.working import forecast_working


@pytest.mark.parametrize("seed", range(5))
def test_terms_deals_and_reasons_equal_a_loop(seed):
    book, snapshot, period, naive = random_reading(seed, 90)
    terms, parts, reasons = Counter(), {}, Counter()
    for key, state in naive.states.items():
        counted, day = state["category"] in naive.counted, state["closed_on"] or state["close"]
        inside = bool(day) and period.starts_on <= day <= period.ends_on
        if state["kind"] != "open":
            reasons[f"{state['kind']}_{'here' if inside else 'elsewhere'}"] += not (inside and state["kind"] == "won")
            chance = 10_000 if inside and state["kind"] == "won" else None
        else:
            chance = int(state["probability"] * 100) if inside and counted else None
            if chance is None:
                reasons[reason(state, period, naive.as_of, counted)] += 1
        if chance is not None:
            shown = None if state["kind"] == "won" else chance
            parts[key] = half_even(Fraction(state["amount"] * chance, 10_000))
            terms[state["stage"], shown] += parts[key]
    found = forecast_working(book, snapshot, period, Filter(), "weighted", "company", NONE)
    stages = book.reference.stages
    assert {(stages[term.stage].key, term.probability_bp): term.value_minor for term in found.terms} == dict(terms)
    told = Counter()
    for deal in found.counted:
        told[book.deals.key[deal.deal]] += deal.value_minor
    assert dict(told) == parts
    assert found.value_minor == sum(parts.values()) == sum(term.value_minor for term in found.terms)
    by_reason = Counter()
    for why, _, deals in found.not_counted:
        by_reason[why] += deals
    assert +by_reason == +reasons


def reason(state, period, as_of, counted):
    """Why an open deal is not in the weighted forecast of a period."""
    if not counted:
        return "category"
    if state["close"] is None:
        return "undated"
    return "due_before" if state["close"] < min(period.starts_on, as_of) else "other_period"
