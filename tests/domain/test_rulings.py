"""Each ruling on its own small workspace, through the package reader and the figures."""

import pytest

from tests.support.world import World, ask, moment

pytestmark = pytest.mark.django_db
YEAR = "2025-01-01/2025-12-31"


@pytest.fixture
def read(tmp_path):
    """Read a world into the database."""
    return lambda world: world.read(tmp_path)


def test_1_windows_include_both_ends_as_local_dates(read):
    """Won at 23:30 UTC on 30 June is 1 July in Dublin; as of 30 June it is not won yet."""
    read(World().deal("d", ("2025-06-01", "s1", 10, None), ("2025-06-30 23:30", "w", 10, None)))
    assert ask("forecast", "2025-07-01/2025-07-01", "2025-07-01")[""]["won"] == "10.00"
    assert ask("forecast", "2025-06-01/2025-06-30", "2025-07-01")[""]["won"] == "0.00"
    assert ask("forecast", YEAR, "2025-06-30")[""]["won"] == "0.00"


def test_2_the_later_of_two_at_one_moment_counts_and_void_counts_nowhere(read):
    world = World().deal(
        "d", ("2025-01-01", "s1", 10, None), ("2025-02-01", "w", 10, None), ("2025-02-01", "s2", 20, None)
    )
    world.deal("e", ("2025-01-01", "s1", 5, "2025-03-01"), ("2025-01-02", "w", 99, None, {"void": "true"}))
    world.deal("f", ("2025-03-01", "s1", 7, "2025-03-31"), created="2025-01-01")
    read(world)
    row = ask("forecast", YEAR, "2025-02-15")[""]
    assert (row["won"], row["undated"], row["open"]) == ("0.00", "20.00", "5.00")
    assert ask("conversion", YEAR, "2025-02-15")["scope"]["created"] == 2, (
        "f stands in no figure before its first revision"
    )
    assert ask("time-in-stage", YEAR, "2025-02-15")["s1"]["completed"] == 1, "e's void revision ends no stay"


def short(world, key, stage, **columns):
    """A short-form deal."""
    row = {"deal_id": key, "name": key, "process_id": "p", "created_at": moment("2025-01-10"), "stage_id": stage}
    return world.add("deals", **row, **{"amount": 100, "owner_id": "a", **columns})


def test_3_short_form_deals_say_what_lacks_and_give_no_rates(read):
    world = World()
    short(world, "lost", "l", closed_at=moment("2025-02-10"), lost_from_stage_id="s2")
    short(world, "lost_unknown", "l", closed_at=moment("2025-02-10"))
    short(world, "won", "w", closed_at=moment("2025-02-20"))
    read(world)
    rows = ask("conversion", YEAR, "2025-12-31")
    assert [rows[s]["reached"] for s in ("s1", "s2", "s3", "w")] == [3, 2, 1, 1]
    assert rows["s1"]["step"] is None
    assert rows["scope"]["without_history"] == 3
    assert ask("time-in-stage", YEAR, "2025-12-31")["s1"]["stays"] == 0
    wins = ask("days-to-win", YEAR, "2025-12-31")[""]
    assert (wins["deals"], wins["median"]) == (1, None)
    assert ask("conversion", YEAR, "2025-01-31")["scope"]["created"] == 0, "before it closed it stands in no figure"


def test_3_with_twenty_deals_of_history_rates_are_given(read):
    world = World()
    for number in range(20):
        world.deal(f"d{number}", ("2025-01-01", "s1", 1, None), ("2025-02-01", "w" if number < 5 else "l", 1, None))
    short(world, "won", "w", closed_at=moment("2025-02-20"))
    read(world)
    scope = ask("conversion", YEAR, "2025-12-31")["scope"]
    assert scope["win_rate_of_created"] == pytest.approx(6 / 21)
    assert ask("days-to-win", YEAR, "2025-12-31")[""]["mean"] is None, "five won with history are too few"


def test_4_before_the_first_dated_row_the_first_holds(read):
    world = World().deal("d", ("2025-01-01", "s1", 1000, "2025-06-01", {"owner_id": "b"}))
    for day, probability in (("2025-03-01", 20), ("2025-05-01", 40)):
        world.add("stage_rules", stage_id="s1", effective_at=moment(day), probability=probability)
    world.add("memberships", person_id="b", team_id="t1", from_on="2025-04-01")
    world.add("team_parents", team_id="t2", from_on="2025-04-01")
    read(world)
    for as_of, weighted in (("2025-02-01", "200.00"), ("2025-04-30", "200.00"), ("2025-05-01", "400.00")):
        rows = ask("forecast", YEAR, as_of, by="team")
        assert (rows["t1"]["weighted"], rows["t2"]["weighted"]) == (weighted, "0.00")


def test_5_moving_between_closed_stages_closes_anew_and_reopening_clears(read):
    world = World()
    world.tables["stages"].append(
        {"stage_id": "l2", "process_id": "p", "name": "gone", "position": 6, "kind": "lost", "probability": 0}
    )
    world.deal("d", ("2025-01-01", "s1", 10, None), ("2025-02-01", "l", 10, None), ("2025-03-01", "l2", 10, None))
    world.deal("e", ("2025-01-01", "s1", 5, None), ("2025-02-01", "w", 5, None), ("2025-03-05", "s2", 5, "2025-03-20"))
    world.deal("f", ("2025-01-01", "s1", 7, None), ("2025-02-01", "w", 7, None), ("2025-03-05", "w", 8, None))
    read(world)
    assert ask("forecast", "2025-02-01/2025-02-28", "2025-03-31")[""]["lost"] == "0.00"
    march = ask("forecast", "2025-03-01/2025-03-31", "2025-03-31")[""]
    assert (march["lost"], march["won"], march["open"]) == ("10.00", "0.00", "5.00")
    assert ask("forecast", "2025-02-01/2025-02-28", "2025-03-31")[""]["won"] == "8.00", (
        "an amount change keeps the closing"
    )


def test_6_owner_of_the_day_but_membership_of_the_closing(read):
    world = World().deal(
        "d", ("2025-01-01", "s1", 10, None, {"owner_id": "c"}), ("2025-02-01", "w", 10, None, {"owner_id": "c"}),
        ("2025-04-01", "w", 10, None, {"owner_id": "b"}),
    )  # fmt: skip
    world.add("memberships", person_id="b", team_id="t1", from_on="2024-01-01")
    world.add("memberships", person_id="b", team_id="t2", from_on="2025-03-01")
    read(world)
    people = ask("forecast", YEAR, "2025-05-01", by="person")
    assert (people["b"]["won"], people["c"]["won"]) == ("10.00", "0.00")
    teams = ask("forecast", YEAR, "2025-05-01", by="team")
    assert (teams["t1"]["won"], teams["t2"]["won"]) == ("10.00", "0.00"), "b was in t1 when the deal closed"


def split(world, key, *shares, from_on=None):
    for person, share in shares:
        world.add("deal_credits", deal_id=key, person_id=person, share=share, from_on=from_on)
    return world


def test_7_8_credit_divides_the_rounded_deal_and_counts_it_once_a_row(read):
    world = World().deal("d", ("2025-01-01", "s2", "0.05", "2025-03-01"))
    split(world, "d", ("a", 50), ("b", 50))
    read(world)
    rows = ask("forecast", YEAR, "2025-02-01", by="person")
    assert (rows["a"]["open"], rows["b"]["open"]) == ("0.03", "0.02"), "the tie goes to the lower identifier"
    assert (rows["a"]["weighted"], rows["b"]["weighted"]) == ("0.01", "0.01"), "2.5 cents round to 2, then divide"
    assert (rows["a"]["deals_open"], rows["b"]["deals_open"]) == (1, 1)
    assert ask("forecast", YEAR, "2025-02-01", by="team")["t1"]["deals_open"] == 1
    assert ask("forecast", YEAR, "2025-02-01", person="a")[""]["open"] == "0.03", "a person filter keeps the part"
    assert ask("forecast", YEAR, "2025-02-01", process="p")[""]["open"] == "0.05", "other filters whole deals"


def test_8_durations_go_by_their_own_owner_and_ignore_credit(read):
    world = World().deal(
        "d", ("2025-01-01", "s1", 10, None, {"owner_id": "a"}), ("2025-01-05", "s1", 10, None, {"owner_id": "b"}),
        ("2025-01-11", "w", 10, None, {"owner_id": "b"}), ("2025-02-01", "w", 10, None, {"owner_id": "c"}),
    )  # fmt: skip
    split(world, "d", ("m", 100))
    read(world)
    stays = ask("time-in-stage", YEAR, "2025-03-01", by="person")
    assert [stays["s1", p]["stays"] for p in "abc"] == [1, 0, 0], "the owner at the stay's start"
    wins = ask("days-to-win", YEAR, "2025-03-01", by="person")
    assert [wins[p]["deals"] for p in "abc"] == [0, 1, 0], "the owner at the closing"
    groups = ask("conversion", YEAR, "2025-03-01", by="person")
    assert [groups["w", p]["reached"] for p in "abc"] == [0, 0, 1], "the owner on the day"


def test_9_territory_is_the_deals_own_and_those_without_form_a_row(read):
    world = World().add("accounts", account_id="acc", name="acc", territory_id="y")
    world.deal("d", ("2025-01-01", "s2", 10, "2025-03-01", {"territory_id": "y"}))
    world.deal("e", ("2025-01-01", "s2", 4, "2025-03-01"), account_id="acc")
    read(world)
    rows = ask("forecast", YEAR, "2025-02-01", by="territory")
    assert [rows[k]["open"] for k in ("x", "y", None)] == ["10.00", "10.00", "4.00"]
    assert None not in ask("forecast", "2024-01-01/2024-12-31", "2025-02-01", by="territory"), (
        "only where it holds something"
    )


def test_10_12_categories_hold_all_overdue_and_undated_counted_ones_only(read):
    world = World()
    world.deal("in", ("2025-01-01", "s2", 10, "2025-02-10", {"category_id": "left_out"}))
    world.deal("late", ("2025-01-01", "s2", 20, "2025-02-10"))
    world.deal("before", ("2025-01-01", "s2", 40, "2025-01-20"))
    world.deal("none", ("2025-01-01", "s2", 80, None, {"category_id": "left_out"}), ("2025-01-02", "s2", 80, None))
    world.deal("zero", ("2025-01-01", "s2", 0, "2025-02-28"))
    world.deal("won", ("2025-01-01", "w", 160, None, {"category_id": "left_out", "probability": 1}))
    read(world)
    row = ask("forecast", "2025-02-01/2025-02-28", "2025-02-20")[""]
    assert row["categories"] == {"commit": "0.00", "best_case": "20.00", "early": "0.00", "left_out": "10.00"}
    figures = ("open", "overdue", "overdue_before", "undated", "deals_open")
    assert [row[k] for k in figures] == ["20.00", "20.00", "40.00", "80.00", 2]
    assert ask("forecast", "2025-01-01/2025-01-31", "2025-02-20")[""]["weighted"] == "180.00", "closed: 160 whole"


def test_11_own_probability_survives_and_is_ignored_where_not_allowed(read):
    world = World()
    world.tables["stages"][2]["own_probability"] = "false"
    own = {"probability": "12.5"}
    world.deal("d", ("2025-01-01", "s2", 1000, "2025-06-01", own), ("2025-02-01", "s3", 1000, "2025-06-01", own))
    world.add("deal_revisions", deal_id="d", effective_at=moment("2025-03-01"), stage_id="s1", amount=1000,
              expected_close="2025-06-01", owner_id="a", probability="12.5")  # fmt: skip
    read(world)
    weighted = [ask("forecast", YEAR, day)[""]["weighted"] for day in ("2025-01-15", "2025-02-15", "2025-03-15")]
    assert weighted == ["125.00", "800.00", "125.00"]


def test_13_14_quotas_cut_by_days_versions_and_parts(read):
    world = World()
    world.quota("person", "b", "2025-04-01", "2025-04-30", "300.00", set_at=moment("2025-01-01"))
    world.quota("person", "b", "2025-04-01", "2025-04-30", "600.00", set_at=moment("2025-03-01"))
    world.quota("person", "c", "2025-04-01", "2025-04-30", "100.00")
    world.quota("person", "c", "2025-04-01", "2025-04-30", "999.00", deal_type="new")
    world.quota("company", None, "2025-04-01", "2025-04-30", "1000.00")
    world.quota("person", "m", "2025-04-01", "2025-04-30", "10.00")
    world.add("memberships", person_id="c", team_id="t1", from_on="2024-01-01")
    world.add("memberships", person_id="c", team_id="t2", from_on="2025-04-15")
    read(world)
    half = ask("forecast", "2025-04-01/2025-04-15", "2025-04-20", by="person")
    assert (half["b"]["quota"], half["c"]["quota"], half["a"]["quota"]) == ("300.00", "50.00", None)
    assert ask("forecast", "FY2026-M01", "2025-02-01", by="person")["b"]["quota"] == "300.00", "the version of that day"
    teams = ask("forecast", "FY2026-M01", "2025-04-20", by="team")
    assert (teams["t2"]["quota"], teams["t1"]["quota"]) == ("600.00", "700.00"), (
        "c's row belongs to t1, its team on 1 April"
    )
    company = ask("forecast", "FY2026-M01", "2025-04-20")[""]
    assert [company[k] for k in ("quota", "quota_set", "quota_of_parts")] == ["1000.00", "1000.00", "710.00"]
    filtered = ask("forecast", "FY2026-M01", "2025-04-20", process="p")[""]
    assert (filtered["quota"], filtered["gap"], filtered["call"]) == (None, None, None), "ruling 27"


def test_15_pace_is_the_quota_cut_off_after_the_day(read):
    world = World().quota("person", "a", "2025-04-01", "2025-04-30", "300.00")
    world.quota("person", "a", "2025-05-01", "2025-05-31", "310.00")
    world.deal("d", ("2025-04-02", "w", "60.00", None))
    read(world)
    row = ask("attainment", "FY2026-Q1", "2025-05-10", by="person")["a"]
    assert (row["quota"], row["pace"], row["won"]) == ("610.00", "400.00", "60.00")
    assert row["attainment_to_date"] == pytest.approx(0.15)
    before = ask("attainment", "FY2026-Q1", "2025-03-01", by="person")["a"]
    assert (before["pace"], before["attainment_to_date"]) == ("0.00", None)


def test_16_calls_managers_first_and_parts_added(read):
    world = World().deal("d", ("2025-01-01", "s2", 100, "2025-05-01", {"owner_id": "b"}))
    span = {"starts_on": "2025-04-01", "ends_on": "2025-06-30"}
    for by, at, amount in (("m", "2025-04-02", 70), ("a", "2025-04-03", 90)):
        world.add("calls", subject="person", subject_id="a", made_at=moment(at), made_by=by, amount=amount, **span)
    read(world)
    people = ask("forecast", "FY2026-Q1", "2025-04-10", by="person")
    assert (people["a"]["call"], people["b"]["call"]) == ("70.00", "50.00"), (
        "the manager's goes before the rep's later one"
    )
    assert ask("forecast", "FY2026-Q1", "2025-04-10")[""]["call"] == "120.00"
    assert ask("forecast", "FY2026-Q1", "2025-04-01", by="person")["a"]["call"] == "0.00", "not made yet"
    assert ask("forecast", "FY2026-M01", "2025-04-10", by="person")["a"]["call"] == "0.00", "exactly that period"


def cohort_world():
    world = World()
    world.deal("back", ("2025-01-01", "s1", 10, None), ("2025-02-01", "s3", 10, None), ("2025-03-01", "s1", 10, None))
    world.deal("skip", ("2025-01-01", "s1", 20, None), ("2025-02-10", "w", 20, None))
    world.deal("lost", ("2025-01-01", "s2", 40, None), ("2025-04-01", "l", 40, None))
    return world


def test_19_21_cohorts_retired_stages_and_stages_left_out(read):
    world = cohort_world()
    world.tables["stages"][1]["retired"] = "true"
    read(world)
    rows = ask("conversion", YEAR, "2025-12-31")
    assert [(k, rows[k]["reached"]) for k in ("s1", "s3", "w")] == [("s1", 3), ("s3", 2), ("w", 1)]
    assert "s2" not in rows
    scope = rows["scope"]
    assert [scope[k] for k in ("created", "won", "lost", "undecided")] == [3, 1, 1, 1]
    assert (scope["win_rate_of_created"], scope["win_rate_of_closed"]) == (pytest.approx(1 / 3), 0.5)
    decided = ask("conversion", "2025-04-01/2025-04-30", "2025-12-31", basis="decided")
    assert (decided["scope"]["created"], decided["s1"]["value"]) == (1, "40.00")
    entered = ask("conversion", "2025-02-01/2025-02-28", "2025-12-31", basis="entered", leave_out=("s1",))
    assert entered["s3"]["reached"] == 2, "a skipped stage is reached when the later one is entered"
    strict = ask("conversion", YEAR, "2025-12-31", strict=True)
    assert [strict[k]["reached"] for k in ("s1", "s3", "w")] == [2, 1, 1]


def test_20_intervals_and_where_there_are_none(read):
    read(cohort_world())
    rows = ask("conversion", YEAR, "2025-12-31")
    assert rows["s1"]["step_low"] is not None
    assert (rows["w"]["step"], rows["w"]["step_low"]) == (None, None), "the last row has no step"
    by_value = ask("conversion", YEAR, "2025-12-31", by_value=True)
    assert (by_value["s3"]["step"], by_value["s3"]["step_low"]) == (pytest.approx(20 / 30), None)
    assert by_value["scope"]["win_rate_of_created"] == pytest.approx(20 / 70)
    strict = ask("conversion", YEAR, "2025-12-31", strict=True, leave_out=("s1",))
    assert (strict["s2"]["step"], strict["s2"]["step_low"]) == (1.0, pytest.approx(0.2065, abs=1e-4))


def test_22_23_stays_running_censored_and_overstaying(read):
    world = World()
    world.deal("done", ("2025-01-01", "s1", 1, None), ("2025-01-11", "l", 1, None))
    world.deal("early", ("2024-12-01", "s1", 1, None))
    world.deal("new", ("2025-01-28", "s1", 1, None))
    world.deal("third", ("2025-01-02", "s3", 1, None))
    read(world)
    row = ask("time-in-stage", "2025-01-01/2025-01-31", "2025-01-31")["s1"]
    assert (row["stays"], row["completed"], row["running"], row["overstaying"]) == (2, 1, 2, 1)
    assert (row["mean"], row["km_median"], row["km_p75"]) == (10.0, 10.0, 10.0), (
        "the open stay is censored after 3.6 days"
    )
    assert row["running_mean_age"] == pytest.approx((61.625 + 3.625) / 2)
    assert ask("time-in-stage", YEAR, "2025-01-31")["s3"]["overstaying"] is None, "no typical days"


def test_25_days_to_win_run_from_creation_to_the_present_won_stage(read):
    world = World().deal("d", ("2025-01-03", "s1", 1, None), ("2025-01-10", "w", 1, None), ("2025-01-12", "s2", 1, None),
                         ("2025-01-21", "w", 1, None), created="2025-01-01")  # fmt: skip
    read(world)
    assert ask("days-to-win", YEAR, "2025-02-01")[""]["mean"] == 20.0


def test_29_30_stages_without_category_and_ratios_of_nothing(read):
    world = World().deal("d", ("2025-01-01", "s1", 10, "2025-02-01"))
    world.tables["stages"][0]["category_id"] = None
    read(world)
    row = ask("forecast", YEAR, "2025-01-15")[""]
    assert (row["categories"]["early"], row["attainment"], row["coverage"]) == ("10.00", None, None)
    empty = ask("conversion", "2020-01-01/2020-12-31", "2025-01-15")
    assert (empty["s1"]["step"], empty["scope"]["win_rate_of_closed"]) == (None, None)


def test_17_range_of_a_person_takes_parts_with_the_whole_deals_outcome(read):
    world = World().deal("d", ("2025-01-01", "s2", 100, "2025-03-01")).deal("e", ("2025-01-01", "s2", 0, "2025-03-01"))
    split(world, "d", ("a", 30), ("b", 70))
    world.quota("person", "a", "2025-01-01", "2025-12-31", "30.00")
    read(world)
    rows = ask("range", YEAR, "2025-02-01", by="person")
    found = [rows["a"][k] for k in ("p10", "p90", "mean", "step", "chance_of_quota")]
    assert found == ["0.00", "30.00", "15.00", "30.00", 0.5], "amounts of 0 do not enter the divisor"
    team = ask("range", YEAR, "2025-02-01", by="team")["t1"]
    assert (team["p90"], team["step"], team["chance_of_quota"]) == ("100.00", "100.00", 0.5), "one outcome, not two"


def test_18_bridge_books_each_change_under_its_cause(read):
    world = World().deal("won", ("2025-01-01", "s2", 100, "2025-03-01"), ("2025-02-01", "w", 120, "2025-03-01"))
    world.deal("new", ("2025-02-05", "s1", 50, "2025-03-01"))
    world.deal("late", ("2025-01-01", "s2", 40, "2025-03-01"), ("2025-02-03", "s3", 40, "2025-05-01"))
    world.deal(
        "back", ("2025-01-01", "s1", 10, None), ("2025-01-05", "l", 10, None), ("2025-02-06", "s2", 10, "2025-03-01")
    )
    world.deal("gone", ("2025-01-01", "s2", 30, "2025-03-01"), ("2025-02-06", "w", 30, "2025-03-01", {"owner_id": "b"}))
    read(world)
    from datetime import date

    rows = ask("bridge", "2025-02-02/2025-03-31", "2025-02-10", since=date(2025, 1, 31))
    rows.pop("scope")
    moved = {k: (r["amount"], r["deals"]) for k, r in rows.items() if r["deals"]}
    assert moved == {
        "start": ("85.00", 3),
        "created": ("5.00", 1),
        "period_out": ("-20.00", 1),
        "amount": ("10.00", 1),
        "won": ("-45.00", 2),
        "reopened": ("5.00", 1),
        "end": ("40.00", 3),
    }, "won outside the period is booked under won"
