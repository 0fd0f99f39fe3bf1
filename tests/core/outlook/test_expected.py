"""What is expected of a scope: its parts add up, its days lead to its end, and people's past periods against a plain loop."""

from datetime import date, timedelta

import pytest

from tests.support.outlook_books import cut_at, worked
from wise_tally.core.backtest import checkpoints
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.back_test import past_periods
from wise_tally.core.outlook.by_day import likely_by_outlook
from wise_tally.core.outlook.by_person import people_test, submitted_in_the_past
from wise_tally.core.outlook.expected import AS_SET, OUTLOOK, WAYS, expected
from wise_tally.core.outlook.rows import outlook_rows

ON, QUOTA = date(2025, 8, 10), 4_000_000


@pytest.fixture(scope="module")
def firm():
    book = worked(1)
    return book, book.as_of(ON), book.reference.fiscal.containing(ON, "quarter")


@pytest.mark.parametrize("way", WAYS)
def test_the_parts_add_up_and_a_won_deal_helps(firm, way):
    book, snapshot, period = firm
    for scope, by in ((Filter(), "company"), (Filter(person=1), "person")):
        (row,) = (one for one in forecast(book, snapshot, period, scope, by) if by == "company" or one.node == 1)
        found = expected(book, snapshot, period, scope, by, way, QUOTA, 5)
        assert found.won_minor == row.won
        assert found.mean_minor == pytest.approx(found.outcome.mean_minor, abs=2 * found.open_deals + 2)
        assert (abs(found.mean_minor - row.weighted) <= found.open_deals) == (way == AS_SET)
        assert (found.to_come > 0) == (found.to_come_minor > 0) == (way == OUTLOOK)
        assert len(found.deals) == min(5, found.open_deals)
        reached = found.outcome.chance_of(QUOTA)
        for deal in found.deals:
            assert deal.adds_minor == pytest.approx(deal.amount_minor * deal.chance, abs=1)
            assert deal.if_lost - 0.02 <= reached <= deal.if_won + 0.02
        weights = [deal.decides for deal in found.deals]
        assert weights == sorted(weights, reverse=True)
        assert expected(book, snapshot, period, scope, by, way, None, 5).deals[0].if_won is None


def test_the_days_ahead_rise_to_the_end_of_the_period(firm):
    book, snapshot, period = firm
    days = tuple((ON + timedelta(days=ahead)).toordinal() for ahead in (1, 10, 30))
    days = (*days, period.ends_on.toordinal())
    for scope, by in ((Filter(), "company"), (Filter(person=1), "person")):
        found = likely_by_outlook(book, snapshot, period, scope, by, days)
        end = expected(book, snapshot, period, scope, by, OUTLOOK, None, 0).outcome
        assert found[-1] == tuple(end.quantile(part) for part in (0.1, 0.5, 0.9))
        for quantile in zip(*found, strict=True):
            assert list(quantile) == sorted(quantile)
        assert all(low <= middle <= high for low, middle, high in found)
        assert found[0][2] < found[-1][2]


def test_people_s_past_periods_against_a_loop(firm):
    """Of each period as it was known after its first third: means of the rows of that day against what was won in the end."""
    book, snapshot, _ = firm
    periods = past_periods(book, ON, "quarter", 3)
    scores = people_test(book, snapshot, periods, Filter())
    assert len(periods) == 3
    assert set(scores) == {0, 1, 2}
    pairs = {person: {"weighted": [], "outlook": []} for person in scores}
    for period in periods:
        day = checkpoints(period)[1]
        then = cut_at(book, midnight_ending(day, "UTC"))
        rows = outlook_rows(then, then.as_of(day), period, Filter(), "person")
        won = {row.node: row.won for row in forecast(book, snapshot, period, Filter(), "person")}
        for row in forecast(then, then.as_of(day), period, Filter(), "person"):
            if row.node in scores and (row.won or row.open or row.deals):
                pairs[row.node]["weighted"].append((row.weighted, won[row.node]))
                pairs[row.node]["outlook"].append((rows[row.node].mean, won[row.node]))
    for person, score in scores.items():
        for method, own in pairs[person].items():
            came = sum(won for _, won in own)
            assert score.error[method] == pytest.approx(sum(abs(mean - won) for mean, won in own) / came, rel=1e-3)
            assert score.bias[method] == pytest.approx(sum(mean - won for mean, won in own) / came, rel=1e-2, abs=1e-3)
        assert score.error["submitted"] == score.error["weighted"], "nothing was submitted, so what is weighted counts"
        assert 0 <= score.within <= score.periods == 3
    assert len(submitted_in_the_past(book, snapshot, periods, Filter())) == 9
