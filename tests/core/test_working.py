"""The working of a figure: its terms and deals are those of a plain loop, and every other deal has its reason."""

from collections import Counter, defaultdict
from fractions import Fraction

import pytest

from tests.support.naive import half_even
from tests.support.random_world import random_reading
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.trees import NONE
from wise_tally.core.working import forecast_working

FIGURES = ("weighted", "won", "open")


def fate(figure, state, period, as_of, counted):
    """What a deal adds to a figure with its probability in basis points (None: taken whole), or the reason why it does not."""
    day = state["closed_on"] or state["close"]
    inside = bool(day) and period.starts_on <= day <= period.ends_on
    if state["kind"] != "open":
        if inside and state["kind"] == "won" and figure != "open":
            return (state["amount"], None), ""
        return None, f"{state['kind']}_{'here' if inside else 'elsewhere'}"
    if not counted:
        return None, "category"
    if inside and figure != "won":
        chance = int(state["probability"] * 100) if figure == "weighted" else None
        weight = 10_000 if chance is None else chance
        return (half_even(Fraction(state["amount"] * weight, 10_000)), chance), ""
    if inside:
        return None, "overdue" if day < as_of else "open"
    if day is None:
        return None, "undated"
    return None, "due_before" if day < min(period.starts_on, as_of) else "other_period"


@pytest.mark.parametrize("figure", FIGURES)
@pytest.mark.parametrize("seed", range(5))
def test_terms_deals_and_reasons_equal_a_loop(seed, figure):
    book, snapshot, period, naive = random_reading(seed, 90)
    terms, parts, reasons = defaultdict(lambda: [0, 0, 0]), {}, Counter()
    for key, state in naive.states.items():
        adds, reason = fate(figure, state, period, naive.as_of, state["category"] in naive.counted)
        if adds is None:
            reasons[reason, state["category"] if reason in ("category", "open", "overdue") else None] += 1
            continue
        value, chance = adds
        parts[key] = (state["amount"], value)
        term = terms[state["stage"], chance]
        term[:] = term[0] + 1, term[1] + state["amount"], term[2] + value
    found = forecast_working(book, snapshot, period, Filter(), figure, "company", NONE)
    stages, categories = book.reference.stages, [one.key for one in book.reference.categories]
    told = {
        (stages[term.stage].key, term.probability_bp): [term.deals, term.amount_minor, term.value_minor]
        for term in found.terms
    }
    assert told == terms
    order = [(key[0] != "w", -(key[1] or 0), -sums[2]) for key, sums in told.items()]
    assert order == sorted(order), "what is won first, then the surest"
    assert {book.deals.key[deal.deal]: (deal.amount_minor, deal.value_minor) for deal in found.counted} == parts
    values = [deal.value_minor for deal in found.counted]
    assert values == sorted(values, reverse=True)
    assert found.value_minor == sum(values)
    not_counted = {(why, None if of == NONE else categories[of]): deals for why, of, deals in found.not_counted}
    assert not_counted == reasons


@pytest.mark.parametrize("seed", range(3))
def test_a_row_holds_its_node_and_all_below(seed):
    """Each team and territory, those without, and people with their credited parts: as the forecast has them."""
    book, snapshot, period, naive = random_reading(seed, 60)
    for by in ("team", "territory", "person"):
        for row in forecast(book, snapshot, period, Filter(), by):
            found = forecast_working(book, snapshot, period, Filter(), "weighted", by, row.node)
            assert (found.value_minor, len(found.counted)) == (row.weighted, row.deals_won + row.deals_open), (
                by,
                row.key,
            )
            if by == "person":
                assert {deal.person for deal in found.counted} <= {row.node}
                for deal in found.counted:
                    key = book.deals.key[deal.deal]
                    parts = naive.divide(naive.states[key]["amount"], naive.shares(key))
                    assert deal.amount_minor == parts[row.key]
