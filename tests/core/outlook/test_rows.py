"""The outlook by rows: parts of a whole, periods that follow one another, nothing of a later day."""

from datetime import date

import numpy as np
import pytest

from tests.support.outlook_books import REFERENCE, cut_at, worked
from tests.support.random_world import random_world
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.rows import days_ahead, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.trust import trust


@pytest.mark.parametrize("seed", range(3))
def test_nothing_of_a_later_day_is_read(seed):
    book, quarter = worked(seed), REFERENCE.fiscal.parse("FY2026-Q1")
    for as_of in (date(2025, 12, 31), date(2026, 1, 30), date(2025, 3, 3)):
        then = cut_at(book, midnight_ending(as_of, "UTC"))
        seen, known = of_deals(book, book.as_of(as_of), quarter), of_deals(then, then.as_of(as_of), quarter)
        assert seen.chance.tolist() == known.chance.tolist()
        assert seen.expected_minor.tolist() == known.expected_minor.tolist()
        assert seen.to_come_minor.tolist() == known.to_come_minor.tolist()
        assert seen.until.shock == known.until.shock
        assert trust(book, book.as_of(as_of), quarter, Filter()) == trust(then, then.as_of(as_of), quarter, Filter())


@pytest.mark.parametrize("seed", range(4))
def test_parts_add_up_to_the_whole_in_the_mean(seed):
    """By every breakdown of a random workspace, people with their shares included; a filter keeps its part."""
    book = random_world(seed, 120).book()
    snapshot, year = book.as_of(date(2025, 3, 3)), book.reference.fiscal.parse("FY2025")
    whole = outlook_rows(book, snapshot, year, Filter(), "company")[0]
    of_each = of_deals(book, snapshot, year)
    assert of_each.to_come_minor.sum() == pytest.approx(of_each.to_come.mean_minor, abs=1)
    asked = stakes_of(
        book, forecast_lines(book, snapshot, year, Filter(), "company"), of_deals(book, snapshot, year)
    ).may_be_won
    assert (asked.won_minor, asked.mean_minor) == (whole.won, pytest.approx(whole.mean, abs=len(snapshot.deal)))
    for by in ("person", "source", "deal_type", "process"):
        rows = outlook_rows(book, snapshot, year, Filter(), by).values()
        for name in ("won", "open_by_chance", "still_to_come", "mean"):
            assert sum(getattr(row, name) for row in rows) == getattr(whole, name), (by, name)
    people = outlook_rows(book, snapshot, year, Filter(), "person")
    assert outlook_rows(book, snapshot, year, Filter(person=0), "company")[0].mean == people[0].mean


def test_a_later_period_is_what_is_won_by_its_end_less_what_is_won_before():
    book, fiscal = worked(1), REFERENCE.fiscal
    snapshot = book.as_of(date(2026, 1, 30))
    this, both, following = (fiscal.parse(one) for one in ("FY2026-Q1", "2026-01-01/2026-06-30", "FY2026-Q2"))
    assert days_ahead(snapshot, following) == (60, 151)
    first, second, together = (of_deals(book, snapshot, one) for one in (this, following, both))
    assert first.chance + second.chance == pytest.approx(np.maximum(together.chance, first.chance))
    assert first.to_come.number + second.to_come.number == pytest.approx(together.to_come.number, rel=0.2)
