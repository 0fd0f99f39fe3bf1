"""Targets of rows: in which scopes a quota means the deals of the row, and whose target a row has."""

from datetime import date

import pytest

from tests.support.world import World
from wise_tally.core.breakdowns import MEMBER, pair
from wise_tally.core.lines import Filter
from wise_tally.core.measures import valued
from wise_tally.core.row_targets import carries_quota, row_targets
from wise_tally.core.trees import NONE

DAY = date(2025, 5, 20)
SPAN = ("2025-04-01", "2025-06-30")


@pytest.mark.parametrize(
    ("scope", "by", "carried"),
    [
        (Filter(), "company", True), (Filter(), "team", True), (Filter(), "territory", True), (Filter(), "process", False),
        (Filter(process=0), "person", False), (Filter(territory=0), "person", False), (Filter(territory=0), "territory", True),
        (Filter(team=0), "territory", False), (Filter(person=0), "territory", False), (Filter(team=0), "company", False),
        (Filter(team=0), "team", True), (Filter(person=0), "team", False), (Filter(person=0), "person", True),
        (Filter(team=0), MEMBER, True), (Filter(), pair("source", "deal_type"), False), (Filter(), "source", True),
        (Filter(team=0), "source", False), (Filter(only=(("source", 1),)), "person", True),
        (Filter(only=(("source", NONE),)), "person", False), (Filter(only=(("industry", 0),)), "company", False),
    ],
)  # fmt: skip
def test_a_quota_counts_only_where_it_means_the_same_deals(scope, by, carried):
    """A team's quota is that of all its people's deals: what keeps some of them only has none."""
    assert carries_quota(scope, by) is carried


def test_whose_target_a_row_has():
    """Company, team and person by their own rows; a source by the company's quota that carries it; no other measure."""
    world = (
        World()
        .deal("d", ("2025-05-01", "w", "10.00", None), source="fair")
        .deal("e", ("2025-05-01", "s1", "9", None), source="web")
    )
    for key, value in (("company", "900.00"), ("team t1", "500.00"), ("person a", "300.00")):
        subject, _, of = key.partition(" ")
        world.quota(subject, of, *SPAN, value)
    world.quota("company", "", *SPAN, "70.00", source="fair")
    world.quota("company", "", *SPAN, "6.00", source="web", deal_type="new")
    book = world.book()
    snapshot, period = book.as_of(DAY), book.reference.fiscal.parse("FY2026-Q1")

    def values(by, scope=None, to_date=False, measure="amount"):
        found = row_targets(book, valued(book, snapshot, measure), period, scope or Filter(), by, to_date)
        keys = {"team": ("t1", "t2"), "source": book.reference.sources, "person": "abcm"}.get(by, ("",))
        return {key: found(place).value for place, key in enumerate(keys)} | (
            {} if by == "company" else {None: found(NONE).value}
        )

    assert values("company") == {"": 90_000}
    assert values("team") == {"t1": 50_000, "t2": None, None: None}
    assert values("person") == {"a": 30_000, "b": None, "c": None, "m": None, None: None}
    assert values("source") == {"fair": 7_000, "web": None, None: None}
    assert values("source", Filter(only=(("source", 0),))) == {"fair": None, "web": None, None: None}
    assert values("company", Filter(only=(("source", 0),))) == {"": 7_000}
    assert values("company", to_date=True) == {"": round(90_000 * 50 / 91)}
    assert values("company", measure="deals") == {"": None}, "no quota counts deals"
