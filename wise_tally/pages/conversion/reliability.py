"""Chances against outcomes: deals open in past quarters by the chance they had, set, actual and of the outlook."""

from dataclasses import dataclass

from wise_tally.core.outlook.back_test import BINS, OF_DEALS, Bin, past_periods, rolling_test
from wise_tally.core.outlook.verdict import PERIODS
from wise_tally.web.files.tables import Sheet
from wise_tally.web.filter_line import FilterLine


@dataclass(frozen=True)
class Tenth:
    """Deals whose chance lay in one tenth, by method in the order of OF_DEALS; None where no deal had such a chance."""

    words: str
    bins: tuple[Bin | None, ...]


def reliability(line: FilterLine) -> list[Tenth]:
    """By tenths of the chance what was won in the days that were left, over the last quarters."""
    quarters = past_periods(line.book, line.as_of, "quarter", PERIODS)
    test = rolling_test(line.book, line.snapshot, quarters, line.scope)
    by_method = [test.reliability(method) for method in OF_DEALS]
    tenths = (Tenth(f"{n * 10} to {n * 10 + 10} %", tuple(bins[n] for bins in by_method)) for n in range(BINS))
    return [tenth for tenth in tenths if any(tenth.bins)]


def reliability_sheet(line: FilterLine) -> Sheet:
    """The same as a table."""
    columns = [f"{method} {what}" for method in OF_DEALS for what in ("deals", "average chance", "won", "low", "high")]
    rows = []
    for tenth in reliability(line):
        row: list[object] = [tenth.words]
        for bin in tenth.bins:
            span = (bin.interval.low, bin.interval.high) if bin and bin.interval else (None, None)
            row += [bin.deals, bin.mean_chance, bin.won, *span] if bin else [None] * 5
        rows.append(row)
    return Sheet("chance and outcome", ("chance", *columns), frozenset(), rows)
