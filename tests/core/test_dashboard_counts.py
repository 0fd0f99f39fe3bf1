"""Counts of dashboards against loops over the deals of the day."""

from collections import defaultdict

import pytest

from tests.support.random_world import random_reading
from wise_tally.core.dashboard_counts import open_by_stage, sums_by_period
from wise_tally.core.lines import Filter


@pytest.mark.parametrize("seed", range(4))
def test_open_deals_by_stage_and_money_by_month_equal_a_loop(seed):
    book, snapshot, _, naive = random_reading(seed, 90)
    reference = book.reference
    person = next(place for place, one in enumerate(reference.people) if one.key == "b")
    months = tuple(reference.fiscal.part(2025, "month", number) for number in range(1, 13))
    names = [one.key for one in reference.categories]
    for scope, whose in ((Filter(), None), (Filter(person=person), "b")):
        stages, sums = defaultdict(list), [defaultdict(int) for _ in months]
        for key, state in naive.states.items():
            parts = naive.divide(state["amount"], naive.shares(key))
            part = sum(parts.values()) if whose is None else parts.get(whose)
            if part is None:
                continue
            if state["kind"] == "open":
                stages[state["stage"]].append(part)
            day = state["close"] if state["kind"] == "open" else state["closed_on"]
            place = next((i for i, m in enumerate(months) if day and m.starts_on <= day <= m.ends_on), None)
            if place is not None and state["kind"] != "lost":
                sums[place]["won" if state["kind"] == "won" else state["category"]] += part
        found = {
            reference.stages[one.stage].key: (one.deals, one.amount_minor)
            for one in open_by_stage(book, snapshot, scope)
        }
        assert found == {key: (len(stages[key]), sum(stages[key])) for key in found}
        assert {key for key, inside in stages.items() if inside} <= found.keys()
        for one, expected in zip(sums_by_period(book, snapshot, months, scope), sums, strict=True):
            assert one.won == expected["won"]
            assert dict(zip(names, one.categories, strict=True)) == {name: expected[name] for name in names}
    assert sums_by_period(book, snapshot, (), Filter()) == ()
