"""Leads by hand: what they reached, and how they went from step to step."""

from datetime import date, datetime, timedelta

import numpy as np
import pytest

from tests.support.naive import ZONE, cents
from tests.support.world import World
from wise_tally.core.leads import NEW, QUALIFIED, STATUSES, LeadRows, lead_figures, leads_in, step_figures
from wise_tally.core.lines import Filter

AS_OF = date(2025, 11, 20)


def test_a_lead_counts_once_in_each_step_it_reached():
    world = World()
    world.deal("d1", ("2025-02-01", "s1", 100, None), ("2025-03-01", "w", 100, None))
    world.deal("d2", ("2025-02-01", "s1", 50, None), ("2025-04-01", "l", 50, None))
    snapshot = world.book().as_of(AS_OF)
    came = int(datetime(2025, 1, 22, 9, tzinfo=ZONE).timestamp())
    closed = came + 10 * 86_400
    status = [STATUSES.index(name) for name in (QUALIFIED, NEW, QUALIFIED, "dropped", NEW)]
    leads = LeadRows(
        *(
            np.array(c)
            for c in (
                [0, 0, 1, 1, -1],
                [0, 0, 1, -1, -1],
                [came] * 5,
                [closed, 0, closed, closed, 0],
                status,
                [0, 1, -1, -1, -1],
            )
        ),
        np.array([[came], [came], [came], [came], [came]]),
    )
    whole = lead_figures(snapshot, leads)
    assert (whole.leads, whole.open, whole.dropped, whole.qualified, whole.deals) == (5, 1, 1, 3, 2)
    assert (whole.won, whole.lost, whole.won_minor) == (1, 1, cents("100"))
    assert whole.days_to_qualify == 10
    between = datetime(2025, 3, 1, 9, tzinfo=ZONE) - datetime(2025, 1, 22, 9, tzinfo=ZONE)
    assert whole.days_to_win == pytest.approx(between / timedelta(days=1))
    assert lead_figures(snapshot, leads, 1).won_rate == 0
    assert lead_figures(snapshot, leads, -1).qualified_rate == 0
    # As of a day before it was closed, a lead was still being worked on; owners and local days make the scope.
    book = world.book()
    early, period = book.as_of(date(2025, 1, 25)), book.reference.fiscal.parse("2025-01-22/2025-01-22")
    assert (
        len(leads_in(book, snapshot, leads, book.reference.fiscal.parse("2025-01-23/2025-12-31"), Filter()).value) == 0
    )
    then = lead_figures(early, leads_in(book, early, leads, period, Filter()))
    assert (then.leads, then.open, then.qualified) == (5, 5, 0)
    step = step_figures(early, leads_in(book, early, leads, period, Filter()))[0]
    assert (step.reached, step.moved_on, step.open) == (5, 0, 5), "what became of them later is not known yet"
    step = step_figures(snapshot, leads)[0]
    assert (step.moved_on, step.dropped, step.open) == (3, 1, 1)
    assert len(leads_in(book, snapshot, leads, period, Filter(person=1)).value) == 1
    of_first = next(i for i, team in enumerate(book.reference.teams) if team.key == "t1")
    assert len(leads_in(book, snapshot, leads, period, Filter(team=of_first)).value) == 3


def test_leads_go_from_step_to_step():
    """Skipped steps are passed, going back takes none away, a dropped one stays where it got to; by hand."""
    day = 86_400
    entered = [[1, 3, 7, 0], [1, 0, 5, 0], [1, 2, 0, 0], [1, 0, 0, 0], [2, 6, 3, 0], [0, 0, 0, 0]]
    closed = [0, 9, 4, 0, 0, 8]
    names = ("working", QUALIFIED, "dropped", NEW, "working", QUALIFIED)
    status = [STATUSES.index(name) for name in names]
    one = np.full(6, -1)
    leads = LeadRows(one, one, np.full(6, day), np.array(closed) * day, np.array(status), one, np.array(entered) * day)
    world = World()
    world.deal("d1", ("2025-02-01", "s1", 100, None))
    nothing = world.book().as_of(AS_OF)
    found = [(s.reached, s.moved_on, s.dropped, s.open, s.days) for s in step_figures(nothing, leads)]
    assert found == [(5, 4, 0, 1, 1.5), (4, 3, 1, 0, 3.0), (3, 1, 0, 2, 4.0), (1, 1, 0, 0, None)]
    assert [s.rate for s in step_figures(nothing, leads)] == [1.0, 0.75, 1.0, 1.0]
    assert step_figures(nothing, leads.take(leads.owner == 7))[0].rate is None
