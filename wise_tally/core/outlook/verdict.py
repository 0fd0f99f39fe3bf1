"""The verdict: whether the outlook leads, with what past periods came to beside what is known of the last days."""

from wise_tally.core.backtest import CACHED_LOOKS, CHECKPOINTS, checkpoints, unchanged_before
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.dashboard_counts import sums_by_period
from wise_tally.core.derived import Grown, Grows, derived
from wise_tally.core.forecast import CACHED_ROWS, forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.back_test import LEAST_PERIODS, past_periods
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW
from wise_tally.core.outlook.rows import days_ahead, of_deals
from wise_tally.core.outlook.still_to_come import run_rate
from wise_tally.core.outlook.trust import Trust, trust

PERIODS = 8
KINDS = ("month", "quarter", "year")


def recent_periods(book: Book, snapshot: BookAsOf, period: Period) -> list[Period]:
    """The last eight periods of the period's kind; of another span, quarters."""
    return past_periods(book, snapshot.as_of, period.kind if period.kind in KINDS else "quarter", PERIODS)


@derived(Grows.CARRIED, most=CACHED_ROWS)
def verdict(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> Trust:
    """What leads in a scope: by its closed deals, the last days, and whether weighted or the run rate missed by less.

    Past periods are judged at the place where this one stands.
    """
    trusted = trust(book, snapshot, period, scope)
    if not trusted.outlook_leads or not days_ahead(snapshot, period)[1]:
        return trusted
    return trust(book, snapshot, period, scope, _beaten_by(book, snapshot, period))


def _beaten_by(book: Book, snapshot: BookAsOf, period: Period) -> str:
    """The method whose means missed past periods by less than the outlook's, the best of them; empty where none did."""
    missed = {"outlook": 0, "weighted": 0, "run_rate": 0}
    checkpoint, looked = _nearest_checkpoint(snapshot, period), 0
    periods = recent_periods(book, snapshot, period)
    in_order = tuple(reversed(periods))
    for past, sums in zip(in_order, sums_by_period(book, snapshot, in_order, Filter()), strict=True):
        means, came = _means_at(book, past, checkpoint), sums.won
        for method, mean in means.items():
            missed[method] += abs(mean - came)
        looked += bool(means)
    best = min(missed, key=lambda method: missed[method])
    return "" if best == "outlook" or looked < LEAST_PERIODS else best


def _nearest_checkpoint(snapshot: BookAsOf, period: Period) -> int:
    """The place among CHECKPOINTS that lies nearest to the day in its period."""
    gone = (snapshot.as_of - period.starts_on).days + 1
    return min(max(round(gone * len(CHECKPOINTS) / period.days), 0), len(CHECKPOINTS) - 1)


def _untouched(means: dict[str, int], grown: Grown, period: Period, index: int) -> dict[str, int] | None:
    return means if unchanged_before(grown, checkpoints(period)[index], Filter()) else None


@derived(_untouched, most=CACHED_LOOKS)
def _means_at(book: Book, period: Period, index: int) -> dict[str, int]:
    """What each method expected of the whole book on average, in minor units; empty where too few deals had been decided."""
    snapshot = book.looked_back(checkpoints(period)[index])
    whole = of_deals(book, snapshot, period)
    if whole.until.decided.max(initial=0) < ENOUGH_TO_SHOW:
        return {}
    lines = forecast_lines(book, snapshot, period, Filter(), "company")
    won = int(lines.value_minor("won").sum())
    return {
        "weighted": int(lines.value_minor("weighted").sum()),
        "run_rate": won + round(run_rate(book, snapshot.cut, days_ahead(snapshot, period)[1]).mean_minor),
        "outlook": won + int(whole.expected_minor.sum()) + int(whole.to_come_minor.sum()),
    }
