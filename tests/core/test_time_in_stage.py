"""Stays and days to win against plain loops over random workspaces, by every breakdown of people and in every scope."""

from collections import defaultdict
from datetime import date, datetime, timedelta
from statistics import mean, median

import pytest

from tests.support.naive import Naive, local, survival_quantile
from tests.support.random_world import random_world, window
from tests.support.small_books import FIRST, IS_WON, SECOND, book_of, reference
from wise_tally.core.lines import Filter
from wise_tally.core.time_in_stage import days_to_win, deals_with_stays, stay_lines, summed, time_in_stage
from wise_tally.core.trees import NONE

SEEDS = range(6)
DAY = 86_400


class Plain:
    """The loops: stays of a workspace with the rows that each counts in."""

    def __init__(self, seed):
        # Every other firm is so small that rows are left without a stay that counts.
        self.world = random_world(seed, 6 if seed % 2 else 40)
        self.start, self.end, self.as_of = window(seed)
        if seed % 2:
            self.start = self.end
        self.naive, self.book = Naive(self.world.tables, self.as_of), self.world.book()
        self.snapshot = self.book.as_of(self.as_of)
        self.period = self.book.reference.fiscal.parse(f"{self.start}/{self.end}")

    def rows_of(self, by, scope, owner, deal):
        """The keys of the rows in which something of an owner counts, [None] for those without; of a team none above it."""
        if by == "company":
            return [""]
        if by == "person":
            return [owner]
        teams = self.teams(owner, deal) or [None]
        if scope.team == NONE:
            return teams
        return teams[: teams.index(self.book.reference.teams[scope.team].key) + 1]

    def name_of(self, key):
        tables = self.world.tables
        names = {row["person_id"]: row["name"] for row in tables["people"]} | {
            row["team_id"]: row["name"] for row in tables["teams"]
        }
        return ({"": "Test", None: None} | names)[key]

    def teams(self, owner, deal):
        naive = self.naive
        return naive.above("team", naive.team(owner, naive.states[deal]["closed_on"] or self.as_of))

    def is_kept(self, scope, owner, deal):
        reference = self.book.reference
        if scope.process != NONE:
            return self.naive.deals[deal]["process_id"] == reference.processes[scope.process][0]
        if scope.person != NONE:
            return owner == reference.people[scope.person].key
        return scope.team == NONE or reference.teams[scope.team].key in self.teams(owner, deal)

    def stays(self, scope, per_deal):
        """(deal, stage, entered, seconds, ended, owner) of the stays in a scope, those of a deal in a stage added up where asked."""
        found, cut = [], self.naive.cut
        for deal, stage, entered, left, owner in self.naive.stays():
            ended = left is not None and left < cut
            seconds = int(((left if ended else cut) - entered).total_seconds())
            if self.is_kept(scope, owner, deal):
                found.append([deal, stage, entered, seconds, ended, owner])
        if not per_deal:
            return found
        together = {}
        for one in sorted(found, key=lambda one: one[2]):
            first = together.setdefault((one[0], one[1]), one)
            if first is not one:
                first[3], first[4] = first[3] + one[3], first[4] and one[4]
        return list(together.values())


def scopes(book):
    return [
        Filter(),
        Filter(process=0),
        Filter(person=1),
        *(Filter(team=team) for team in range(len(book.reference.teams))),
    ]


@pytest.mark.parametrize("per_deal", [False, True])
@pytest.mark.parametrize("by", ["company", "person", "team"])
@pytest.mark.parametrize("seed", SEEDS)
def test_each_row_and_stage_equals_a_loop_over_its_stays(seed, by, per_deal):
    plain = Plain(seed)
    reference = plain.book.reference
    rules = reference.rules_on(plain.as_of)
    for scope in scopes(plain.book):
        expected = defaultdict(list)
        counted = set()
        for deal, stage, entered, seconds, ended, owner in plain.stays(scope, per_deal):
            inside = plain.start <= local(entered) <= plain.end
            counted |= {deal} if inside or not ended else set()
            for key in plain.rows_of(by, scope, owner, deal):
                expected[key, stage].append((seconds, ended, inside))
        lines = stay_lines(plain.book, plain.snapshot, plain.period, scope)
        assert deals_with_stays(lines) == len(counted) or per_deal
        groups = time_in_stage(plain.book, plain.snapshot, plain.period, scope, by, per_deal)
        for group in groups:
            assert group.name == plain.name_of(group.key)
            for row in group.stages:
                stays = expected.pop((group.key, reference.stages[row.stage].key), [])
                check(row, stays, rules[row.stage].typical_days)
            assert group.has_stays == any(row.stays or row.running for row in group.stages)
            assert [reference.stages[row.stage].key for row in group.stages] == stages_of(plain, scope)
        left = {key: stays for key, stays in expected.items() if key[1] in stages_of(plain, scope)}
        assert not [key for key, stays in left.items() if any(inside or not ended for _, ended, inside in stays)]


def stages_of(plain, scope):
    """Open stages that are in use, those of one process where one is asked for."""
    process = None if scope.process == NONE else plain.book.reference.processes[scope.process][0]
    rows = [row for row in plain.world.tables["stages"] if row["kind"] == "open" and row.get("retired") != "true"]
    rows.sort(key=lambda row: (row["process_id"], int(row["position"])))
    return [row["stage_id"] for row in rows if process in (None, row["process_id"])]


def check(row, stays, typical):
    """One row of one stage against its plain stays (seconds, ended, in the window)."""
    inside = [(seconds / DAY, ended) for seconds, ended, is_in in stays if is_in]
    done, running = [days for days, ended in inside if ended], sorted(s / DAY for s, ended, _ in stays if not ended)
    assert (row.stays, row.completed, row.running) == (len(inside), len(done), len(running))
    assert (row.mean, row.median) == (
        (pytest.approx(mean(done)), pytest.approx(median(done))) if done else (None, None)
    )
    assert (row.km_median, row.km_p75) == tuple(
        None if found is None else pytest.approx(found) for found in (survival_quantile(inside, q) for q in (0.5, 0.75))
    )
    assert row.running_ages.tolist() == pytest.approx(running)
    assert row.running_mean_age == (pytest.approx(mean(running)) if running else None)
    assert (row.typical_days, row.overstaying) == (
        typical,
        None if typical is None else sum(1 for days in running if days > typical),
    )


@pytest.mark.parametrize("by", ["company", "person", "team"])
@pytest.mark.parametrize("seed", SEEDS)
def test_days_to_win_equal_a_loop_over_the_deals_won(seed, by):
    plain = Plain(seed)
    for scope in scopes(plain.book):
        expected, short = defaultdict(list), defaultdict(int)
        for deal, state in plain.naive.states.items():
            owner = state["entry_owner"]
            if state["kind"] != "won" or not plain.start <= state["closed_on"] <= plain.end:
                continue
            if not plain.is_kept(scope, owner, deal):
                continue
            created = datetime.fromisoformat(plain.naive.deals[deal]["created_at"])
            for key in plain.rows_of(by, scope, owner, deal):
                expected[key].append((state["entered"] - created).total_seconds() / DAY)
                short[key] += deal in plain.naive.short
        for row in days_to_win(plain.book, plain.snapshot, plain.period, scope, by):
            days, lacking = expected.pop(row.key, []), short[row.key]
            assert row.name == plain.name_of(row.key)
            assert (row.deals, row.without_history) == (len(days), lacking)
            known = days and not (lacking and len(days) - lacking < 20)
            assert (row.mean, row.median) == (
                (pytest.approx(mean(days)), pytest.approx(median(days))) if known else (None, None)
            )
        assert not expected


def test_the_ends_of_window_and_day_are_inside_and_the_next_midnight_is_not():
    first, last = date(2025, 3, 1), date(2025, 3, 31)
    days = [first - timedelta(days=1), first, last, last + timedelta(days=1)]
    moved = [(first, FIRST, 100, None), (last + timedelta(days=1), SECOND, 100, None)]
    book = book_of([*([(day, FIRST, 100, None)] for day in days), moved], reference(typical_days=(31, None)))
    period = book.reference.fiscal.parse(f"{first}/{last}")
    (row, _) = time_in_stage(book, book.as_of(last), period, Filter())[0].stages
    assert (row.stays, row.running, row.overstaying) == (3, 4, 1)
    assert row.running_ages.tolist() == [1, 31, 31, 32]


@pytest.mark.parametrize(
    ("month", "deals", "days"), [("FY2025-M03", 0, None), ("FY2025-M04", 2, 45.5), ("FY2025-M05", 0, None)]
)
def test_a_winning_counts_on_the_first_and_on_the_last_day_of_its_month(month, deals, days):
    created = (date(2025, 3, 1), FIRST, 100, None)
    book = book_of([[created, (date(2025, 4, day), IS_WON, 100, None)] for day in (1, 30)])
    (row,) = days_to_win(book, book.as_of(date(2025, 6, 1)), book.reference.fiscal.parse(month), Filter())
    assert (row.deals, row.mean) == (deals, days)


def test_stays_of_a_deal_added_up_are_one_line_a_stage_and_the_same_time():
    world = random_world(77, 150)
    book = world.book()
    snapshot, period = book.as_of(date(2025, 11, 20)), book.reference.fiscal.parse("2024-01-01/2025-11-20")
    scope = Filter(process=0)
    lines = stay_lines(book, snapshot, period, scope)
    once = summed(lines)
    assert int(once.seconds.sum()) == int(lines.seconds.sum())
    assert len(once.deal) == len(set(zip(lines.deal.tolist(), lines.stage.tolist(), strict=True)))
    per_deal = time_in_stage(book, snapshot, period, scope, per_deal=True)[0].stages
    assert [s.running for s in per_deal] == [s.running for s in time_in_stage(book, snapshot, period, scope)[0].stages]
