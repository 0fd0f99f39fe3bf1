"""The core against the naive second implementation on random workspaces, on books put together from their tables."""

from datetime import date
from itertools import pairwise
from random import Random
from statistics import mean, median

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive, local, survival_quantile
from tests.support.random_world import random_world
from wise_tally.core.conversion import ConversionOptions, cohort
from wise_tally.core.deal_list import slips
from wise_tally.core.drop_off import losses
from wise_tally.core.exits import WAYS, exits
from wise_tally.core.lines import Filter
from wise_tally.core.time_in_stage import time_in_stage

SEEDS = range(12)
NAMES = ("won", "lost", "open", "weighted_open", "weighted", "overdue", "overdue_before", "undated")


def window(seed):
    """A random period and as-of day of the years the worlds cover."""
    random = Random(f"window{seed}")
    start = date(2024, random.randint(1, 12), random.randint(1, 28))
    end = date(2025, random.randint(1, 12), random.randint(1, 28))
    as_of = date(random.choice((2024, 2025, 2026)), random.randint(1, 12), random.randint(1, 28))
    return start, end, as_of


@pytest.mark.parametrize("seed", SEEDS)
def test_forecast_equals_plain_python(seed):
    """Every figure of every row, by every breakdown, to the cent."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    for by in ("company", "team", "person", "territory", "process", "deal_type", "source"):
        rows = ask(book, "forecast", f"{start}/{end}", as_of.isoformat(), by=by)
        expected = naive.forecast(start, end, by)
        for key, row in rows.items():
            for name in NAMES:
                assert row[name] == expected[key][name], (by, key, name)
            for category, value in zip(book.reference.categories, row["categories"], strict=True):
                assert value == expected[key]["category:" + category.key], (by, key, category)
            assert row["deals_won"] == expected[key]["deals_won"], (by, key)
            assert row["deals_open"] == expected[key]["deals_open"], (by, key)
        for key, row in expected.items():
            assert key in rows or not any(row.values()), (by, key)


@pytest.mark.parametrize("seed", SEEDS)
def test_conversion_and_durations_equal_plain_python(seed):
    """Reached and value per stage, stays with Kaplan–Meier, days to win per owner at the closing."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    period, day = f"{start}/{end}", as_of.isoformat()
    naive = Naive(world.tables, as_of)
    rows = ask(book, "conversion", period, day)
    scope = rows.pop("scope")
    expected, totals = naive.conversion("p", start, end)
    assert [(row["reached"], row["value"]) for row in rows.values()] == expected
    assert {name: getattr(scope, name) for name in totals} == totals
    stays = ask(book, "time-in-stage", period, day)
    by_person = ask(book, "time-in-stage", period, day, by="person")
    for stage, row in stays.items():
        check_stays(row, *naive.time_in_stage(stage, start, end))
        for person in "abcd":
            check_stays(by_person[stage, person], *naive.time_in_stage(stage, start, end, person))
    check_ages(book, (start, end, as_of), naive)
    check_exits(book, (start, end, as_of), naive)
    wins = ask(book, "days-to-win", period, day, by="person")
    found = naive.days_to_win(start, end)
    for person in "abcd":
        assert wins[person]["deals"] == len(found[person])
        if wins[person]["mean"] is not None:
            assert wins[person]["mean"] == pytest.approx(mean(found[person]), abs=1e-9)
            assert wins[person]["median"] == pytest.approx(median(found[person]), abs=1e-9)


def check_stays(row, inside, running):
    """One row of time in stage against the plain lists of stays."""
    done = [days for days, ended in inside if ended]
    assert (row["stays"], row["completed"], row["running"]) == (len(inside), len(done), len(running))
    assert row["mean"] == (pytest.approx(mean(done), abs=1e-9) if done else None)
    assert row["median"] == (pytest.approx(median(done), abs=1e-9) if done else None)
    for name, q in (("km_median", 0.5), ("km_p75", 0.75)):
        expected = survival_quantile(inside, q)
        assert row[name] == (None if expected is None else pytest.approx(expected, abs=1e-9))
    assert row["running_mean_age"] == (pytest.approx(mean(running), abs=1e-9) if running else None)


def check_ages(book, days, naive):
    """Each age of running stays: a person's are the plain list, a row's mean and number are those of its ages."""
    start, end, as_of = days
    snapshot, period = book.as_of(as_of), book.reference.fiscal.parse(f"{start}/{end}")
    for by in ("person", "team", "territory", "company"):
        for group in time_in_stage(book, snapshot, period, Filter(), by):
            for row in group.stages:
                ages = row.running_ages.tolist()
                assert ages == sorted(ages)
                assert len(ages) == row.running
                assert row.running_mean_age == (pytest.approx(mean(ages)) if ages else None)
                if by in ("person", "company"):
                    person = group.key if by == "person" else None
                    running = naive.time_in_stage(book.reference.stages[row.stage].key, start, end, person)[1]
                    assert ages == pytest.approx(sorted(running))


def check_exits(book, days, naive):
    """Stays that ended in the period by where their deal went next, in numbers and in its amount on the day."""
    order, expected = naive.order("p"), {}
    start, end, as_of = days
    for key, rows in naive.revisions.items():
        if key in naive.short or naive.deals[key]["process_id"] != "p":
            continue
        begun = [r for at, r in enumerate(rows) if at == 0 or rows[at - 1]["stage_id"] != r["stage_id"]]
        for row, then in pairwise(begun):
            if row["stage_id"] in order and then["at"] < naive.cut and start <= local(then["at"]) <= end:
                kind = naive.stages[then["stage_id"]]["kind"]
                onward = kind == "open" and order.index(then["stage_id"]) > order.index(row["stage_id"])
                way = kind if kind != "open" else "forward" if onward else "back"
                expected.setdefault((row["stage_id"], way), []).append(naive.states[key]["amount"])
    snapshot, period = book.as_of(as_of), book.reference.fiscal.parse(f"{start}/{end}")
    for row in exits(book, snapshot, period, Filter(process=0), ConversionOptions()):
        for way, stays, minor in zip(WAYS, row.stays, row.minor, strict=True):
            amounts = expected.get((book.reference.stages[row.stage].key, way), [])
            assert (stays, minor) == (len(amounts), sum(amounts)), (row.stage, way)


@pytest.mark.parametrize("seed", range(4))
def test_sums_add_up_in_every_scope(seed):
    """People add up to teams, teams with the row of those without to the company, territories too."""
    book = random_world(seed).book()
    start, end, as_of = window(seed)
    for scope in ({}, {"process": "p"}, {"territory": "x"}, {"team": "t1"}, {"person": "c"}):
        answers = {
            by: ask(book, "forecast", f"{start}/{end}", as_of.isoformat(), by=by, **scope)
            for by in ("company", "team", "person", "territory")
        }
        for name in NAMES:
            whole = answers["company"][""][name]
            assert sum(row[name] for row in answers["person"].values()) == whole, (scope, name)
        if not scope:
            check_roots(answers)


def check_roots(answers):
    """Roots plus the row of those without equal the company."""
    for by in ("team", "territory"):
        rows = answers[by]
        tree = {"team": ("t1", "t2"), "territory": ("x", "y")}[by]
        for name in NAMES:
            whole = answers["company"][""][name]
            first, second = (rows[key][name] for key in tree)
            without = rows[None][name] if None in rows else 0
            # The second node stands below the first or beside it, as the tree of the day has it.
            assert whole - without in (first, first + second), (by, name)


@pytest.mark.parametrize("seed", SEEDS)
def test_bridge_causes_sum_exactly_to_the_difference(seed):
    """Ruling 18, on random pairs of days, scopes and measures; the ends are the forecast's own figures."""
    book = random_world(seed).book()
    random, (start, end, as_of) = Random(f"bridge{seed}"), window(seed)
    for measure in ("weighted", "won", "commit_forecast", "best_case_forecast", "open"):
        since = date(2024, random.randint(1, 12), random.randint(1, 28))
        if since > as_of:
            since, as_of = as_of, since
        scope = random.choice(({}, {"team": "t1"}, {"person": "b"}, {"territory": "x"}, {"process": "p"}))
        rows = ask(book, "bridge", f"{start}/{end}", as_of.isoformat(), since=since, measure=measure, **scope)
        amounts = list(rows.values())
        assert amounts[0] + sum(amounts[1:-1]) == amounts[-1]
        for key, day in (("start", since), ("end", as_of)):
            forecast = ask(book, "forecast", f"{start}/{end}", day.isoformat(), **scope)[""]
            assert rows[key] == forecast[measure], (measure, scope, key)


@pytest.mark.parametrize("seed", range(6))
def test_set_and_seen_equals_a_loop(seed):
    """Ruling 24: decided deals that first reached a stage in the look-back, a skipped one when the later is entered."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    rows = ask(book, "set-and-seen", f"{start}/{end}", as_of.isoformat())
    order = naive.order("p")
    for stage, row in rows.items():
        inside = []
        for key, state in naive.states.items():
            reached = naive.first_reached(key, order, order.index(stage))
            if state["kind"] != "open" and reached is not None and start <= reached <= end:
                inside.append(state["kind"])
        assert (row["decided"], row["won"]) == (len(inside), inside.count("won")), stage


@pytest.mark.parametrize("seed", range(8))
def test_every_cohort_equals_plain_python(seed):
    """Created, entered and decided, reached and strict, all and decided only, by the owner on the day."""
    world = random_world(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive = Naive(world.tables, as_of)
    order = naive.order("p")
    shown = [place for place, stage in enumerate(order) if naive.stages[stage].get("retired") != "true"]
    for basis in ("created", "entered", "decided"):
        for strict in (False, True):
            for decided_only in (False, True):
                options = ConversionOptions(basis, strict, decided_only)
                rows = ask(book, "conversion", f"{start}/{end}", as_of.isoformat(), "person", options)
                cohort = list(naive.cohort(order, (start, end), basis, strict))
                if decided_only:
                    cohort = [key for key in cohort if naive.states[key]["kind"] != "open"]
                check_losses(book, naive, [*shown, len(order)], cohort, (start, end, as_of, options))
                for person in "abcd":
                    own = [key for key in cohort if naive.states[key]["owner"] == person]
                    for place in [*shown, len(order)]:
                        stage = order[place] if place < len(order) else "w"
                        inside = [key for key in own if naive.reached(key, order, place, strict)]
                        row = rows[stage, person]
                        assert row["reached"] == len(inside), (options, stage, person)
                        assert row["value"] == sum(naive.states[key]["amount"] for key in inside)


def check_losses(book, naive, places, cohort_keys, asked):
    """Between each shown stage and the next: deals lost, and apart those not decided, of a plain loop."""
    (start, end, as_of, way), order = asked, naive.order("p")
    snapshot, period = book.as_of(as_of), book.reference.fiscal.parse(f"{start}/{end}")
    found = cohort(book, snapshot, period, Filter(process=0), way)
    for row, (place, following) in zip(losses(book, snapshot, found, way), pairwise(places), strict=True):
        here = [key for key in cohort_keys if naive.reached(key, order, place, way.strict)]
        stopped = [key for key in here if not naive.reached(key, order, following, way.strict)]
        kinds = {kind: [key for key in stopped if naive.states[key]["kind"] == kind] for kind in ("lost", "open")}
        amounts = {kind: sum(naive.states[key]["amount"] for key in keys) for kind, keys in kinds.items()}
        assert (row.lost, row.lost_minor) == (len(kinds["lost"]), amounts["lost"])
        assert (row.undecided, row.undecided_minor) == (len(kinds["open"]), amounts["open"])
        decided = sum(naive.states[key]["kind"] != "open" for key in here)
        assert row.share == (len(kinds["lost"]) / decided if decided else None)


@pytest.mark.parametrize("seed", SEEDS)
def test_slips_equal_plain_python(seed):
    world = random_world(seed)
    book, (_, _, as_of) = world.book(), window(seed)
    naive = Naive(world.tables, as_of)
    found = slips(book, book.as_of(as_of))
    pairs = {key: (int(found.count[i]), int(found.days[i])) for i, key in enumerate(book.deals.key)}
    assert pairs == {key: naive.slips(key) for key in pairs}
    if as_of > date(2025, 1, 1):
        assert any(count for count, _ in pairs.values())
