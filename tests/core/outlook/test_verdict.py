"""The verdict against a plain loop over the past periods: which method missed by less where this one stands."""

from datetime import date

import pytest

from tests.support.outlook_books import cut_at, worked
from wise_tally.core.backtest import checkpoints
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW, fit
from wise_tally.core.outlook.rows import days_ahead, outlook_rows
from wise_tally.core.outlook.still_to_come import run_rate
from wise_tally.core.outlook.trust import WEIGHTED, trust
from wise_tally.core.outlook.verdict import recent_periods, verdict


def missed(book, snapshot, period, place):
    """By method the sum of what it missed the recent periods by, as each was known on that checkpoint."""
    sums = {"outlook": 0, "weighted": 0, "run_rate": 0}
    for past in recent_periods(book, snapshot, period):
        day = checkpoints(past)[place]
        then = cut_at(book, midnight_ending(day, "UTC"))
        looked = then.as_of(day)
        (row,) = forecast(then, looked, past, Filter(), "company")
        outlook = outlook_rows(then, looked, past, Filter(), "company")[row.node]
        if fit(then, day, days_ahead(looked, past)[1]).decided.max(initial=0) < ENOUGH_TO_SHOW:
            continue
        came = forecast(book, snapshot, past, Filter(), "company")[0].won
        rate = run_rate(then, looked.cut, days_ahead(looked, past)[1]).mean_minor
        for method, mean in (("outlook", outlook.mean), ("weighted", row.weighted), ("run_rate", row.won + rate)):
            sums[method] += abs(mean - came)
    return sums


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize(("on", "place"), [(date(2025, 7, 10), 0), (date(2025, 8, 10), 1), (date(2025, 9, 10), 2)])
def test_whoever_missed_past_periods_by_less_leads(seed, on, place):
    book = worked(seed)
    snapshot, period = book.as_of(on), book.reference.fiscal.containing(on, "quarter")
    sums = missed(book, snapshot, period, place)
    alone, judged = trust(book, snapshot, period, Filter()), verdict(book, snapshot, period, Filter())
    beaten = sums["outlook"] > min(sums.values())
    assert judged.leads == (WEIGHTED if beaten else alone.leads)


def test_recent_periods_are_of_the_same_kind_and_quarters_for_other_spans():
    book, on = worked(0), date(2025, 8, 10)
    snapshot, fiscal = book.as_of(on), book.reference.fiscal
    quarters = recent_periods(book, snapshot, fiscal.containing(on, "quarter"))
    assert [one.text for one in quarters[:2]] == ["FY2025-Q2", "FY2025-Q1"]
    assert recent_periods(book, snapshot, fiscal.parse("2025-08-01/2025-08-31")) == quarters
    assert len(recent_periods(book, snapshot, fiscal.containing(on, "month"))) == 8
