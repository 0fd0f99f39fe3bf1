"""The verdict: whether the outlook leads, with the back-test of past periods beside what is known of the last days."""

from collections.abc import Sequence

from wise_tally.core.backtest import CHECKPOINTS
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.back_test import RollingTest, past_periods, rolling_test
from wise_tally.core.outlook.rows import days_ahead
from wise_tally.core.outlook.trust import Trust, trust

PERIODS = 8
KINDS = ("month", "quarter", "year")


def recent_test(
    book: Book, snapshot: BookAsOf, period: Period, checkpoints: Sequence[str] = CHECKPOINTS
) -> RollingTest:
    """The back-test of the whole book over the last eight periods of the period's kind; of another span, quarters."""
    kind = period.kind if period.kind in KINDS else "quarter"
    return rolling_test(book, snapshot, past_periods(book, snapshot.as_of, kind, PERIODS), Filter(), checkpoints)


def nearest_checkpoint(snapshot: BookAsOf, period: Period) -> str:
    """The place in past periods that lies nearest to the day in this one."""
    gone = (snapshot.as_of - period.starts_on).days + 1
    return CHECKPOINTS[min(max(round(gone * len(CHECKPOINTS) / period.days), 0), len(CHECKPOINTS) - 1)]


def verdict(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> Trust:
    """What leads in a scope: by its decided deals, the last days, and whether weighted or the run rate missed by less.

    Past periods are judged at the place where this one stands.
    """
    found = trust(book, snapshot, period, scope)
    if not found.outlook_leads or not days_ahead(snapshot, period)[1]:
        return found
    test = recent_test(book, snapshot, period, (nearest_checkpoint(snapshot, period),))
    return trust(book, snapshot, period, scope, test.beaten_by)
