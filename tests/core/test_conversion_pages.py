"""The questions of the conversion pages: against other implementations, and naive loops over the package's rows."""

from collections import defaultdict
from datetime import date, datetime, timedelta
from random import Random

import numpy as np
import pytest
from scipy.stats import median_abs_deviation
from sklearn.metrics import brier_score_loss

from tests.support.naive import ZONE, Naive, cents, local
from tests.support.random_world import random_world
from tests.support.world import World
from wise_tally.core.backtest import back_test, brier, checkpoints
from wise_tally.core.conversion import ConversionOptions, conversion
from wise_tally.core.forecast import forecast
from wise_tally.core.forecast_accuracy import middle_of, rep_records
from wise_tally.core.leads import NEW, QUALIFIED, STATUSES, LeadRows, lead_figures, leads_in, step_figures
from wise_tally.core.lines import Filter
from wise_tally.core.loss_reasons import crossed, lost_by, lost_from, lost_in, months_lost
from wise_tally.core.monthly_trend import SpanFigures, of_three_months, spans, usual, velocity
from wise_tally.core.observed_rates import decided_in, probability_check
from wise_tally.core.observed_weight import look_back_of, observed_probabilities
from wise_tally.core.size_bands import NAMES, SIZE, with_size_bands
from wise_tally.core.time_in_stage import stay_lines, summed, time_in_stage

AS_OF = date(2025, 11, 20)
SCOPE = Filter(process=0)


def test_brier_score_is_that_of_scikit_learn():
    random = np.random.default_rng(5)
    for size in (1, 7, 400):
        chance, won = random.random(size), random.integers(0, 2, size).astype(bool)
        assert brier(chance, won) == pytest.approx(brier_score_loss(won, chance, labels=[False, True]), abs=1e-12)


def test_what_is_unusual_follows_the_scaled_deviation_of_scipy():
    """scipy's scale "normal" is 1 ÷ 0.67449, the exact form of 1.4826 (common practice)."""
    random = Random(3)
    values = [random.randrange(100) for _ in range(40)]
    for place, mark in enumerate(usual(values)):
        if place < 12:
            assert mark is None
            continue
        before = values[place - 12 : place]
        assert mark.median == np.median(before)
        assert mark.reach == pytest.approx(3 * median_abs_deviation(before, scale="normal"), rel=1e-4)
    flat = usual([5.0] * 12 + [5.0, 6.0])
    assert [flat[12].is_unusual(5.0), flat[13].is_unusual(6.0)] == [False, True]
    assert usual([None] * 3 + [1.0] * 11)[-1] is None


@pytest.mark.parametrize("seed", range(3))
def test_spans_and_losses_are_those_of_a_loop_over_the_rows(seed):
    world = random_world(seed + 20, 80)
    book, naive = world.book(), Naive(world.tables, AS_OF)
    snapshot = book.as_of(AS_OF)
    fiscal = book.reference.fiscal
    months = tuple(fiscal.shifted(fiscal.containing(AS_OF, "month"), step) for step in range(-20, 1))
    for found in spans(book, snapshot, months, SCOPE):
        inside = lambda day, p=found.period: p.starts_on <= day <= p.ends_on  # noqa: E731
        created = [k for k in naive.states if inside(local(datetime.fromisoformat(naive.deals[k]["created_at"])))]
        closed = [k for k, s in naive.states.items() if s["closed_on"] and inside(s["closed_on"])]
        won = [k for k in closed if naive.states[k]["kind"] == "won"]
        amount = lambda keys: sum(naive.states[k]["amount"] for k in keys)  # noqa: E731
        assert (found.created, found.created_value) == (len(created), amount(created))
        assert (found.won, found.lost, found.won_value) == (len(won), len(closed) - len(won), amount(won))
    period = fiscal.parse("2025-01-01/2025-11-20")
    at = lost_in(book, snapshot, period, SCOPE)
    lost = {
        k
        for k, s in naive.states.items()
        if s["kind"] == "lost" and period.starts_on <= s["closed_on"] <= period.ends_on
    }
    assert {book.deals.key[int(d)] for d in snapshot.deal[at]} == lost
    stages = book.reference.stages
    for place, stage in zip(at, lost_from(book, snapshot, at), strict=True):
        key = book.deals.key[int(snapshot.deal[place])]
        rows = [r for r in naive.revisions[key] if r["at"] < naive.cut]
        stood = [r["stage_id"] for r in rows if naive.stages[r["stage_id"]]["kind"] == "open"]
        if key in naive.short:
            stood = [rows[-1].get("lost_from_stage_id") or "s1"]
        furthest = max(stood, key=lambda s: naive.stages[s]["position"], default=None)
        assert (stages[stage].key if stage >= 0 else None) == furthest
    nobody = np.zeros(0, dtype=np.int64)
    found = lost_by(snapshot, ((at, snapshot.owner[at]), (nobody, nobody)))
    assert (found.whole.deals, found.whole.amount_minor) == (len(lost), sum(naive.states[k]["amount"] for k in lost))
    assert sum(found.share(row) for row in found.rows) == pytest.approx(1) or not lost
    # Month by person: each pair counts the deals of a loop, and only pairs that occur are there.
    pairs = crossed(snapshot, at, months_lost(snapshot, at, period.starts_on), snapshot.owner[at])
    expected: dict[tuple[int, str], list[int]] = {}
    for key in lost:
        state = naive.states[key]
        month = (state["closed_on"].year - 2025) * 12 + state["closed_on"].month - 1
        expected.setdefault((month, state["owner"]), []).append(state["amount"])
    people = [person.key for person in book.reference.people]
    assert {(month, people[owner]): cell for (month, owner), cell in pairs.items()} == {
        pair: (len(amounts), sum(amounts)) for pair, amounts in expected.items()
    }
    found = velocity(book, snapshot, period, SCOPE)
    assert found.open_deals == sum(s["kind"] == "open" for s in naive.states.values())
    if found.per_day:
        whole = spans(book, snapshot, (period,), SCOPE)[0]
        expected = (
            found.open_deals * whole.won / (whole.won + whole.lost) * whole.won_value / whole.won / whole.days_to_win
        )
        assert found.per_day == pytest.approx(expected)


@pytest.mark.parametrize("seed", range(3))
def test_back_test_and_records_look_at_each_day_as_it_stood(seed):
    """Each guess is the forecast of that day; with seen rates it never uses a deal decided later."""
    world = random_world(seed + 40, 120)
    book = world.book()
    snapshot = book.as_of(AS_OF)
    quarters = tuple(
        book.reference.fiscal.shifted(book.reference.fiscal.containing(AS_OF, "quarter"), -s) for s in (1, 2, 3)
    )
    found = back_test(book, snapshot, quarters, SCOPE)
    assert [g.period for g in found.guesses] == [q for q in quarters for _ in range(3)]
    squares = defaultdict(list)
    for guess in found.guesses:
        then = book.as_of(guess.on)
        assert guess.on in checkpoints(guess.period)
        assert guess.as_set == forecast(book, then, guess.period, SCOPE, "company")[0].weighted
        assert guess.won == forecast(book, snapshot, guess.period, SCOPE, "company")[0].won
        observed = observed_probabilities(book, then, guess.period)
        assert observed.look_back == look_back_of(guess.period)
        for at in range(len(then.deal)):
            if (
                then.kind[at]
                or not guess.period.starts_on.toordinal() <= then.expected_close[at] <= guess.period.ends_on.toordinal()
            ):
                continue
            now = snapshot.kind[np.searchsorted(snapshot.deal, then.deal[at])]
            if now and book.reference.categories[then.category[at]].counted:
                squares[int(then.stage[at])].append((then.probability_bp[at] / 10_000 - (now == 1)) ** 2)
    assert {s.stage: (s.deals, pytest.approx(s.as_set)) for s in found.scores} == {
        stage: (len(values), np.mean(values)) for stage, values in squares.items()
    }
    period = quarters[0]
    naive = Naive(world.tables, AS_OF)
    then, end = (Naive(world.tables, day) for day in (middle_of(period), period.ends_on))
    records = rep_records(book, snapshot, period, Filter())
    due = defaultdict(lambda: [0, 0])
    for key, state in then.states.items():
        counted = state["kind"] == "open" and state["category"] in then.counted
        if counted and state["close"] and period.starts_on <= state["close"] <= period.ends_on:
            later = (
                end.states[key]["kind"] == "open"
                and end.states[key]["close"]
                and end.states[key]["close"] > state["close"]
            )
            for person in then.shares(key):
                due[person][0] += 1
                due[person][1] += bool(later)
    people = [person.key for person in book.reference.people]
    assert {people[p]: [r.due, r.slipped] for p, r in records.items() if r.due} == dict(due)
    assert naive.states.keys() >= then.states.keys()


def test_bands_groups_and_rows_hold_the_deals_that_their_working_lists():
    world = random_world(77, 150)
    book = world.book()
    snapshot, period = book.as_of(AS_OF), book.reference.fiscal.parse("2024-01-01/2025-11-20")
    banded = with_size_bands(book, snapshot, SCOPE)
    groups = {g.name: g for g in conversion(banded, snapshot, period, SCOPE, ConversionOptions(), SIZE)}
    assert set(groups) <= set(NAMES)
    whole = conversion(book, snapshot, period, SCOPE, ConversionOptions())[0]
    assert sum(g.totals.created for g in groups.values()) == whole.totals.created
    amounts = sorted(snapshot.amount_minor.tolist())
    small = sum(a <= amounts[(len(amounts) - 1) // 4] for a in amounts)
    assert groups[NAMES[0]].totals.created <= small
    for group in probability_check(banded, snapshot, period, SCOPE, SIZE):
        for rate in group.stages:
            at = decided_in(banded, snapshot, period, SCOPE, rate.stage, (SIZE, group.node))
            assert (len(at), int((snapshot.kind[at] == 1).sum())) == (rate.decided, rate.won)
    # A deal's stays added up: as many lines as deals that stood in the stage, the same time in all.
    lines = stay_lines(book, snapshot, period, SCOPE)
    once = summed(lines)
    assert int(once.seconds.sum()) == int(lines.seconds.sum())
    assert len(once.deal) == len(set(zip(lines.deal.tolist(), lines.stage.tolist(), strict=True)))
    per_deal = time_in_stage(book, snapshot, period, SCOPE, per_deal=True)[0].stages
    assert [s.running for s in per_deal] == [s.running for s in time_in_stage(book, snapshot, period, SCOPE)[0].stages]


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


def test_three_months_take_every_deal_alike():
    """Rates and sizes of the three months' deals together, not the mean of three rates; numbers as a mean a month."""
    months = [
        SpanFigures(None, 10, 1_000, 1, 9, 500, 40.0),
        SpanFigures(None, 20, 3_000, 0, 5, 0, None),
        SpanFigures(None, 60, 8_000, 3, 0, 900, 20.0),
        SpanFigures(None, 0, 0, 0, 0, 0, None),
    ]
    assert of_three_months(months, "created") == (None, None, 30, pytest.approx(80 / 3))
    assert of_three_months(months, "win_rate") == (None, None, pytest.approx(4 / 18), pytest.approx(3 / 8))
    assert of_three_months(months, "mean_won") == (None, None, 350, 300)
    assert of_three_months(months, "days_to_win") == (None, None, 25, 20)
    assert of_three_months(months[:1], "won") == (None,)
    assert of_three_months([months[3]] * 3, "days_to_win") == (None, None, None)
