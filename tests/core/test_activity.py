"""Activities against targets, worked by hand (invented rows)."""

from dataclasses import replace

import numpy as np

from tests.support.small_books import book_of, day, reference
from wise_tally.core.activity import KINDS, DoneActivities, activities_inside, activity_attainment, done_by
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.lines import Filter
from wise_tally.core.reference_data import Quota
from wise_tally.core.trees import NONE

PHONE, MEETING, WEB = KINDS.index("phone"), KINDS.index("meeting"), KINDS.index("web_visit")
MAY = FiscalCalendar(1).parse("FY2025-M05")
# Ann and bob are of the north team, cy of the south, dee of none.
PEOPLE = (("ann", 0), ("bob", 0), ("cy", 1), "dee")
ROWS = [
    (0, PHONE, "2025-05-01", 3), (0, PHONE, "2025-04-30", 9), (0, MEETING, "2025-05-20", 1), (0, PHONE, "2025-05-21", 7),
    (1, PHONE, "2025-05-09", 2), (2, WEB, "2025-05-09", 5), (3, PHONE, "2025-05-09", 4),
]  # fmt: skip


def asked():
    """The book, its state on 20 May and all that was done, what came after that evening too."""
    first, last = day("2025-05-01").toordinal(), day("2025-05-31").toordinal()
    quota = Quota("person", 0, "activities", first, last, 3_100, ("", "", "", "phone"))
    book = book_of([], replace(reference(PEOPLE, ("north", "south")), quotas=(quota,)))
    columns = zip(*((person, kind, day(on).toordinal(), number) for person, kind, on, number in ROWS), strict=True)
    return book, book.as_of(day("2025-05-20")), DoneActivities(*map(np.array, columns))


def test_done_in_the_period_by_the_evening_web_visits_apart():
    book, snapshot, done = asked()

    def counted(by, kind="", scope=None):
        rows = activity_attainment(book, snapshot, MAY, scope or Filter(), by, done.of_kind(kind))
        return {row.forecast.key: row.forecast.won // 100 for row in rows if row.forecast.won}

    assert counted("company") == {"": 10}
    assert counted("team") == {"north": 6, None: 4}
    assert counted("person") == {"ann": 4, "bob": 2, "dee": 4}
    assert counted("person", "phone") == {"ann": 3, "bob": 2, "dee": 4}
    assert counted("person", "web_visit") == {"cy": 5}
    assert counted("person", "", Filter(team=0)) == {"ann": 4, "bob": 2}
    inside = activities_inside(book, snapshot, MAY, Filter(), done.of_kind(""))
    assert done_by(book, snapshot, inside, "team", 0).number.tolist() == [3, 1, 2]
    assert done_by(book, snapshot, inside, "team", NONE).number.tolist() == [4]
    assert done_by(book, snapshot, inside, "person", 1).number.tolist() == [2]


def test_a_target_of_a_kind_meets_that_kind_alone():
    """31 phone calls in May; by the evening of the 20th 20 of them are due."""
    book, snapshot, done = asked()

    def target(kind, by="person"):
        row = activity_attainment(book, snapshot, MAY, Filter(), by, done.of_kind(kind))[0]
        return row.forecast.quota, row.pace

    assert target("phone") == (3_100, 2_000)
    assert target("phone", "company") == (3_100, 2_000)
    assert target("meeting") == target("") == (None, None)
