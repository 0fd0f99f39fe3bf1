"""The bench measures like with like: the plain numpy baseline and the core give the same figures."""

import math
from datetime import date

import pytest

from wise_tally.bench import baseline
from wise_tally.bench.package import TODAY, write_bench
from wise_tally.book.store import books
from wise_tally.core.buckets import FIGURES
from wise_tally.core.conversion import ConversionOptions, conversion
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.time_in_stage import time_in_stage
from wise_tally.package.reading import read_package

pytestmark = pytest.mark.django_db


@pytest.fixture
def book(tmp_path):
    """The book of a bench package."""
    write_bench(tmp_path, 700)
    read_package(tmp_path, TODAY)
    return books.current()


def test_the_baseline_gives_the_forecast_of_every_rep(book):
    """All figures of money and number and the quota, for a quarter."""
    day: date = TODAY.date()
    quarter = book.reference.fiscal.containing(day, "quarter")
    plain = baseline.forecast_by_rep(book, baseline.QuotaColumns(book), quarter, day)
    for row in forecast(book, book.as_of(day), quarter, Filter(), "person"):
        figures = [getattr(row, name) for name in FIGURES]
        assert plain[row.node] == [*figures, *row.categories, row.deals_won, row.deals_open, row.quota]
    assert any(line[-1] for line in plain)
    assert any(line[0] for line in plain)


def test_the_baseline_gives_the_conversion_of_every_rep(book):
    """Reached, value, rates and intervals of every stage, and the cohort's totals, for a year."""
    day = TODAY.date()
    year = book.reference.fiscal.containing(day, "year")
    stages, totals = baseline.conversion_by_rep(book, year, day)
    for group in conversion(book, book.as_of(day), year, Filter(process=0), ConversionOptions(), "person"):
        cohort = group.totals
        counted = [cohort.created, cohort.won, cohort.lost, cohort.closed_won, cohort.closed_lost]
        assert totals[group.node] == [*counted, cohort.win_rate_of_created, cohort.win_rate_of_closed]
        for place, stage in enumerate(group.stages):
            low, high = (stage.step_interval.low, stage.step_interval.high) if stage.step_interval else (None, None)
            expected = [stage.reached, stage.value, stage.step, low, high, stage.from_start]
            expected = [math.nan if cell is None else cell for cell in expected]
            assert stages[group.node, :, place].tolist() == pytest.approx(expected, abs=1e-12, nan_ok=True)


def test_the_baseline_gives_the_quantiles_of_every_stage_and_rep(book):
    """Kaplan–Meier median and 75th percentile, mean and median of completed stays, of the same groups."""
    day = TODAY.date()
    year = book.reference.fiscal.containing(day, "year")
    plain = baseline.time_in_stage_by_rep(book, year, day)
    groups = time_in_stage(book, book.as_of(day), year, Filter(process=0), "person")
    stages = [stage for group in groups for stage in group.stages]
    found = [x for stage in stages for x in (stage.km_median, stage.km_p75, stage.mean, stage.median)]
    seconds = sorted(x * 86_400 for x in found if x is not None)
    assert sorted(x for x in plain if not math.isnan(x)) == pytest.approx(seconds)
