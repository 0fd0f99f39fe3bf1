"""The demo: always the same for the same day, and with the truths built in for the screens to find."""

from datetime import date, timedelta

import pytest
from django.core.management import call_command

from tests.conftest import TODAY
from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.demo.build import write_demo
from wise_tally.demo.firm import JOINED
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.models import Person, Team
from wise_tally.domain.targets.models import Quota

pytestmark = pytest.mark.django_db
THREE_YEARS, DAY = "2023-11-24/2026-11-23", TODAY.isoformat()


def test_the_same_day_makes_the_same_demo_and_another_day_another(tmp_path):
    for name, day in (("a", TODAY), ("b", TODAY), ("c", TODAY + timedelta(days=1))):
        (tmp_path / name).mkdir()
        write_demo(tmp_path / name, day)
    files = sorted(path.name for path in (tmp_path / "a").iterdir())
    assert all((tmp_path / "a" / f).read_bytes() == (tmp_path / "b" / f).read_bytes() for f in files)
    assert (tmp_path / "a" / "deals.csv").read_bytes() != (tmp_path / "c" / "deals.csv").read_bytes()


def test_the_firm_is_as_described(demo):
    roles = Person.objects.values_list("role", flat=True)
    assert {role: list(roles).count(role) for role in set(roles)} == {"admin": 1, "manager": 5, "rep": 14}
    assert Team.objects.filter(parent=None).count() == 2
    assert Team.objects.count() == 6
    assert Deal.objects.count() > 1_800
    assert 6 < DealRevision.objects.count() / Deal.objects.count() < 10
    assert Person.objects.filter(active_to__lt=TODAY).count() == 1


def test_offer_is_set_far_above_what_happens(demo):
    row = ask("set-and-seen", THREE_YEARS, DAY, process="new_site")["ns_offer"]
    assert row["set"] == 0.6
    assert row["off"]
    assert 0.1 < row["set"] - row["seen"] < 0.26


def test_results_spread_as_in_a_real_team(demo):
    """Two far ahead of pace, most between 70 and 140 % of it, two behind; nobody but the newcomer far below."""
    rows = ask("attainment", "FY2027-Q3", DAY, by="person")
    shares = {key: row["attainment_to_date"] for key, row in rows.items() if row.get("attainment_to_date") is not None}
    newcomer = shares.pop(JOINED)
    assert 0 < newcomer < 0.6
    ordered = sorted(shares.values())
    assert len(ordered) == 12
    assert 0.3 < ordered[0] <= ordered[1] < 0.7 < ordered[2]
    assert ordered[-3] < 1.4 < ordered[-2]


def test_open_deals_are_due_overdue_and_without_a_date(demo):
    page = ask("forecast", "FY2027-Q3", DAY)[""]
    assert all(cents(page[name]) > 0 for name in ("overdue", "undated"))
    week = ask("forecast", "2026-11-23/2026-11-29", DAY)[""]
    assert cents(week["open"]) > 0


def test_some_deals_skip_a_stage_and_targets_of_a_week_are_whole(demo):
    entered = {}
    for row in DealRevision.objects.select_related("stage").order_by("deal", "pk"):
        entered.setdefault(row.deal_id, []).append(row.stage.key)
    skipped = [keys for keys in entered.values() if "ns_plan" in keys and "ns_survey" not in keys]
    assert 5 < len(skipped) < 60
    targets = Quota.objects.filter(metric="activities", starts_on=TODAY - timedelta(days=TODAY.weekday()))
    assert {(row.value, (row.ends_on - row.starts_on).days) for row in targets} == {(300, 6)}


def test_a_tenth_of_the_deals_came_by_partners_who_have_targets_they_may_reach(demo):
    share = Deal.objects.exclude(partner=None).count() / Deal.objects.count()
    assert 0.08 < share < 0.14
    assert Deal.objects.exclude(campaign="").exists()
    for name in ("partner", "source"):
        rows = ask("attainment", "FY2026", DAY, by=name)
        with_target = [row for key, row in rows.items() if key != "scope" and row.get("quota")]
        assert len(with_target) >= 3
        won, quota = (sum(cents(row[figure]) for row in with_target) for figure in ("won", "quota"))
        assert 0.6 < won / quota < 1.4, name


def test_one_rep_calls_everything_commit(demo):
    rows = ask("forecast", "FY2027", DAY, by="person")
    money = rows["r06"]["categories"]
    assert cents(money["commit"]) > 0
    assert cents(money["best_case"]) == cents(money["early"]) == 0


def test_one_rep_overstays_in_station_plan(demo):
    rows = ask("time-in-stage", THREE_YEARS, DAY, process="new_site", by="person")
    rows.pop("scope")
    medians = {p: r["km_median"] for (s, p), r in rows.items() if s == "ns_plan" and r["stays"] >= 10}
    assert max(medians, key=medians.get) == "r02"
    assert medians["r02"] > 1.5 * sorted(medians.values())[len(medians) // 2]


def test_one_territory_converts_better_on_one_source(demo):
    everywhere = ask("conversion", THREE_YEARS, DAY, process="new_site", by="source")
    vale = ask("conversion", THREE_YEARS, DAY, process="new_site", by="source", territory="upper_vale")
    assert vale["ns_won", "Referral"]["from_start"] > 1.5 * everywhere["ns_won", "Referral"]["from_start"]


def test_one_large_deal_decides_the_quarter(demo):
    row = ask("range", "FY2027-Q3", DAY)[""]
    assert 0.2 < row["chance_of_quota"] < 0.8
    gap, weighted = (cents(ask("forecast", "FY2027-Q3", DAY)[""][k]) for k in ("gap", "weighted"))
    assert gap > 0
    assert abs(weighted - cents(ask("forecast", "FY2027-Q3", DAY)[""]["quota"])) < 42_000_000


def test_a_demo_of_another_day_is_renewed_only_while_untouched(monkeypatch, db, capsys):
    call_command("demo")
    assert "demo of 2026-11-23 made" in capsys.readouterr().out
    call_command("demo")
    assert not capsys.readouterr().out, "running it again is harmless"
    monkeypatch.setenv("WISE_TALLY_TODAY", "2026-11-30")
    call_command("demo")
    assert "demo of 2026-11-30 made" in capsys.readouterr().out
    revisions_added()
    monkeypatch.setenv("WISE_TALLY_TODAY", "2026-12-07")
    call_command("demo")
    assert not capsys.readouterr().out, "what somebody changed is kept"
    assert date(2026, 11, 30) <= max(d.created_at.date() for d in Deal.objects.all()) + timedelta(days=2)
