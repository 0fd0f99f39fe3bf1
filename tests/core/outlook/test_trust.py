"""When the outlook leads."""

from datetime import date

from tests.support.outlook_books import REFERENCE, cut_at, worked
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.fit import fit
from wise_tally.core.outlook.trust import CORRECTED, FEW, OUTLOOK, WEIGHTED, last_days, trust


def test_what_leads_follows_from_what_was_decided_and_how_the_last_days_went():
    book, fiscal = worked(0), REFERENCE.fiscal

    def on(as_of, whose=book, beaten_by=""):
        return trust(whose, whose.as_of(as_of), fiscal.containing(as_of, "quarter"), Filter(), beaten_by)

    days = (date(2024, 2, 11), date(2024, 3, 12), date(2024, 7, 10), date(2026, 1, 15))
    assert [on(one).leads for one in days] == [WEIGHTED, FEW, OUTLOOK, CORRECTED]
    assert [on(one).shown for one in days] == [False, True, True, True]
    assert [on(one).decided for one in days] == [4, 20, 83, 312]
    assert on(date(2026, 1, 15), beaten_by="run_rate").leads == WEIGHTED
    assert [bool(fit(book, one, 75).corrections.shifts) for one in days] == [False, False, False, True]
    assert on(date(2024, 6, 30)).over
    # Nothing moves in the last days: the past does not repeat.
    still = cut_at(book, midnight_ending(date(2025, 4, 12), "UTC"))
    found = on(date(2025, 5, 21), still)
    assert (found.leads, found.shown) == (WEIGHTED, True)
    assert found.last_days == last_days(still, date(2025, 5, 21), 40)
    assert (found.last_days.won, found.last_days.off_by < -2) == (0, True), found.last_days
