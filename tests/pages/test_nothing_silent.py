"""Nothing is left out silently, refused late or shown stale: rows of rates, files, programs, leavers, closings, clocks."""

import os
from datetime import UTC, date, datetime, timedelta

import pytest

from tests.interfaces.test_api import bearer, token_of
from tests.support.answers import text
from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.core.lines import Filter
from wise_tally.core.tally import Sides, TallyQuery, tally_values
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Account, Activity, Deal, DealRevision, Lead
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import AuditEntry
from wise_tally.domain.targets.models import Quota
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package

pytestmark = pytest.mark.django_db
DAY = date(2025, 6, 30)


def values(measure, by):
    book = books.current()
    snapshot, period = book.as_of(DAY), book.reference.fiscal.parse("FY2026-Q1")
    return {row.key: row for row in tally_values(book, snapshot, period, Filter(), TallyQuery(measure, by), Sides())}


def test_a_rate_of_0_and_what_cannot_be_computed_are_rows(tmp_path):
    """Worked by hand: two lost of two is 0 %, an open deal alone has no rate, a quota reached has no coverage."""
    world = World()
    for key, stage, source in (("d1", "l", "fair"), ("d2", "l", "fair"), ("d3", "w", "web"), ("d4", "s1", None)):
        world.deal(
            key,
            ("2025-05-01", "s1", "10.00", "2025-06-20"),
            ("2025-05-02", stage, "10.00", "2025-06-20"),
            source=source,
        )
    world.quota("person", "a", "2025-04-01", "2025-06-30", "5.00").quota(
        "person", "b", "2025-04-01", "2025-06-30", "9.00"
    )
    world.read(tmp_path)
    rate = values("win_rate", "source")
    assert {key: (row.value, row.reason, row.holds) for key, row in rate.items()} == {
        "fair": (0.0, "", True), "web": (1.0, "", True), None: (None, "no deals closed", True)}  # fmt: skip
    cover = values("coverage", "person")
    assert (cover["a"].value, cover["a"].reason, cover["b"].reason) == (None, "quota reached", "")
    assert (cover["c"].reason, cover["c"].holds) == ("no quota", False)


def test_a_drawing_says_what_it_does_not_draw(demo, sign_in):
    """Rows without the attribute are rows like others; what lines leave out is written with its number and its sum."""
    client = sign_in("m1")
    page = client.get("/team/report/?show=won&by=product_group&bucket=month&draw=line&period=FY2027")
    result = page.context["tile"].result
    sums = [sum(cell.value or 0 for cell in row.cells) for row in result.rows]
    assert sums == sorted(sums, reverse=True), "the largest first, whatever it is called"
    assert len(result.rows) > 4
    assert result.write(sum(sums[4:])) in result.not_in_lines
    assert result.not_in_lines in page.content.decode()
    few = client.get("/forecast/working/won/?period=2026-11-01/2026-11-23&node=person:r01").content.decode()
    assert "Open as a list" in few or "more – show all" in few


def test_lists_of_programs_are_whole_or_say_where_they_go_on(demo, client):
    """Pages name total and next in body and header; a CSV is all; unknown parameters are refused; names beside identifiers."""
    headers = bearer(token_of("m1"))
    first = client.get("/api/deals?per_page=50&status=open", **headers)
    found, body = [], first.json()
    while True:
        found += body["deals"]
        if body["next"] is None:
            break
        body = client.get(body["next"], **headers).json()
    assert len(found) == body["total"] == int(first["X-Total-Count"]) > 50
    assert first["Link"] == f'<{first.json()["next"]}>; rel="next"'
    rows = client.get("/api/deals/csv?status=open", **headers).content.decode().splitlines()
    assert len(rows) - 1 == len(found)
    assert next(one for one in found if one["deal_id"] == "d9001")["owner_name"] == "Joss Merrow"
    for address in (
        "/api/deals?stage=x",
        "/api/deals/csv?page=2",
        "/api/figures/forecast?periode=FY2027",
        "/api/tallies?x=1",
    ):
        refused = client.get(address, **headers)
        assert (refused.status_code, "is not a parameter here" in refused.json()["detail"]) == (422, True), address


def test_files_of_leads_and_accounts_hold_every_row(demo, sign_in):
    client = sign_in("a1")
    assert len(client.get("/customers/leads/table.json?status=all").json()["rows"]) == Lead.objects.count()
    assert len(client.get("/customers/accounts/table.json").json()["rows"]) == 240


def test_who_leaves_has_no_targets_from_the_day_after(demo, sign_in):
    """The month of leaving counts up to the day, later ones not; the row stays while it has figures, marked; undone in the plan."""
    client = sign_in("a1")
    before = ask("forecast", "FY2027-M08", "2026-11-22", by="person")["r08"]["quota"]
    typed = {"name": "Joss Merrow", "email": "", "role": "rep", "active_from": "2020-04-01", "active_to": "2026-11-15"}
    assert client.post("/setup/lists/people/r08/", typed).status_code == 302
    assert float(ask("forecast", "FY2027-M08", "2026-11-23", by="person")["r08"]["quota"]) == pytest.approx(
        float(before) / 2, abs=0.01
    )
    assert float(ask("forecast", "FY2027-M09", "2026-11-23", by="person")["r08"]["quota"]) == 0
    assert ask("forecast", "FY2027-M08", "2026-11-22", by="person")["r08"]["quota"] == before, (
        "earlier days read as before"
    )
    count = Quota.objects.count()
    assert client.post("/setup/lists/people/r08/", typed | {"name": "Joss M."}).status_code == 302
    assert Quota.objects.count() == count, "saved again nothing is cut twice"
    names = [row.name for row in client.get("/attainment/?by=person&period=FY2027-Q3").context["rows"]]
    assert "Joss M., left 15 Nov 2026" in names


def test_attainment_and_comparison_break_down_as_the_forecast_does(demo, sign_in):
    client = sign_in("m1")
    for by in ("process", "campaign", "industry", "country", "deal_type_group", "own:site_access"):
        for page in ("/attainment/", "/attainment/period-comparison/", "/team/report/"):
            answer = client.get(f"{page}?by={by}&period=FY2027-Q3")
            assert answer.status_code == 200, (page, by)
    whole = client.get("/attainment/?by=own:site_access&period=FY2027-Q3").context
    assert sum(row.record.forecast.won for row in whole["rows"]) == whole["whole"].forecast.won


def test_closing_takes_a_day_a_reason_and_the_competitor_and_reopening_goes_back(demo, sign_in):
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    address, lost_before = "/deals/d9001/change/", ask("forecast", "2026-11-21/2026-11-21", "2026-11-23")[""]["lost"]

    def close(**typed):
        last = last_revision(deal)
        return client.post(address, {"revision": last.pk, "edited": "stage", "stage": "ns_lost", **typed})

    for typed, says in (
        ({}, 'name="lost_reason"'),
        ({"closing": "yes"}, "No reason is given"),
        ({"closing": "yes", "lost_reason": "Price", "closed_on": "2026-11-24"}, "cannot be the closing day"),
        ({"closing": "yes", "lost_reason": "Price", "closed_on": "2026-11-01"}, "cannot be the closing day"),
    ):
        answer = close(**typed)
        assert (answer.status_code, says in answer.content.decode()) == (422, True), typed
    sent = {"closing": "yes", "lost_reason": "Price", "closed_on": "2026-11-21", "competitor": "Orlo"}
    assert close(**sent).status_code == 302
    made = last_revision(deal)
    again = client.post(address, {"revision": 1, "edited": "stage", "stage": "ns_lost", **sent})
    assert (again.status_code, last_revision(deal)) == (302, made), (
        "the same sent twice is saved once and is no conflict"
    )
    lost = ask("forecast", "2026-11-21/2026-11-21", "2026-11-23")[""]["lost"]
    assert float(lost) - float(lost_before) == 420_000
    page = client.get("/deals/d9001/")
    assert [step.stage.key for step in page.context["steps"]] == ["ns_terms"], "reopened where it was closed"
    client.post("/deals/d9001/revert/", {"revision": made.pk})
    deal.refresh_from_db()
    assert (last_revision(deal).stage.key, deal.competitor) == ("ns_terms", "")
    words = client.get("/deals/d9001/").content.decode()
    assert "<s>Terms → Lost" in words.replace("\n", "")


def test_a_change_of_own_probability_and_a_close_set_to_a_past_day_are_put_back(demo, sign_in):
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    first = last_revision(deal)
    for typed in ({"edited": "probability", "probability": "40"},
                  {"edited": "expected_close", "expected_close": "2026-11-02", "past_meant": "yes"}):  # fmt: skip
        assert client.post("/deals/d9001/change/", {"revision": first.pk, **typed}).status_code == 302
        made = last_revision(deal)
        assert made != first
        assert client.post("/deals/d9001/revert/", {"revision": made.pk}).status_code == 302
        assert last_revision(deal) == first


def test_put_back_by_somebody_else_or_later_is_a_change_like_any_other(demo, sign_in):
    mine, deal = sign_in("r08", apart=True), Deal.objects.get(key="d9001")
    first = last_revision(deal)
    mine.post("/deals/d9001/change/", {"revision": first.pk, "edited": "amount", "amount": "1.00"})
    made = last_revision(deal)
    assert sign_in("r01", apart=True).post("/deals/d9001/revert/", {"revision": made.pk}).status_code == 404
    assert sign_in("m1", apart=True).post("/deals/d9001/revert/", {"revision": made.pk}).status_code == 302
    back = last_revision(deal)
    assert (back.amount_minor, back.pk > made.pk, back.void) == (first.amount_minor, True, False)
    assert not DealRevision.objects.get(pk=made.pk).void


def test_a_clock_put_back_never_lets_an_old_state_overwrite_a_newer_one(demo, sign_in, monkeypatch):
    """The page of the day before shows the state of that day; saving from it is a conflict, not a step back."""
    client, deal = sign_in("m1"), Deal.objects.get(key="d9001")
    first = last_revision(deal)
    client.post("/deals/d9001/change/", {"revision": first.pk, "edited": "amount", "amount": "777000.00"})
    monkeypatch.setenv("WISE_TALLY_TODAY", "2026-11-22")
    row = client.get("/deals/d9001/").context["row"]
    assert (row.amount_minor, row.revision) == (first.amount_minor, first.pk)
    answer = client.post("/deals/d9001/change/", {"revision": row.revision, "edited": "category", "category": "early"})
    assert (answer.status_code, last_revision(deal).amount_minor) == (409, 77_700_000)


def test_a_manager_says_why(demo, sign_in):
    client = sign_in("m1")
    page = "/forecast/submitted/?period=FY2027-Q3"
    refused = client.post(page, {"amount:person:r01": "5000", "reason:person:r01": " "})
    assert (refused.status_code, "No reason is given" in refused.content.decode()) == (422, True)
    assert client.post(page, {"amount:person:r01": "5000", "reason:person:r01": "no survey yet"}).status_code == 302
    assert sign_in("r01").post(page, {"amount:person:r01": "6000"}).status_code == 302


def test_adopting_names_the_quarters_that_move(demo, sign_in):
    """Each quarter by its own forecast before and after; nothing is said of quarters that stay."""
    client = sign_in("m1")
    shown = client.post(
        "/conversion/probability-check/?process=new_site&period=FY2026", {"stage": ["ns_offer"]}
    ).context["effect"]
    assert len(shown.quarters) > 1
    assert all(before != after for _, before, after in shown.quarters)
    moved = sum(after - before for _, before, after in shown.quarters)
    assert 0 < abs(moved) <= abs(shown.weighted_after - shown.weighted_before)


def test_private_pages_are_not_kept_by_the_browser(demo, sign_in):
    for address in ("/deals/", "/forecast/table.csv", "/today/"):
        assert sign_in("m1").get(address)["Cache-Control"] == "no-store"


def test_broken_packages_are_refused_in_one_line(tmp_path):
    """JSON nested a thousand deep, a file that is a link to itself, a loop in the rows of a day, two won stages."""
    deep = tmp_path / "deep"
    deep.mkdir()
    (deep / "datapackage.json").write_text("[" * 100_000 + "]" * 100_000)
    circle = World().write(tmp_path / "circle")
    (circle / "teams.csv").unlink()
    os.symlink("teams.csv", circle / "teams.csv")
    for folder, says in ((deep, "cannot be read"), (circle, "circle")):
        with pytest.raises(PackageRefused) as refused:
            read_package(folder, datetime(2026, 11, 23, tzinfo=UTC))
        assert says in str(refused.value.report.faults[0])
    world = World()
    world.add("team_parents", team_id="t1", parent_id="", from_on="2024-01-01")
    world.add("team_parents", team_id="t1", parent_id="t2", from_on="2025-01-01")
    world.tables["stages"].append({**world.tables["stages"][3], "stage_id": "w2", "position": 6})
    with pytest.raises(PackageRefused) as refused:
        world.read(tmp_path / "loop")
    found = {(fault.file, fault.row) for fault in refused.value.report.faults}
    assert found == {("team_parents.csv", 3), ("stages.csv", 7)}


def test_a_deal_won_again_reached_what_it_skipped_at_its_first_win(tmp_path):
    """Won in January, reopened, won in May: the stages it skipped were reached in January."""
    world = World()
    states = (("2025-01-10", "s1"), ("2025-01-20", "w"), ("2025-02-01", "s1"), ("2025-05-05", "w"))
    world.deal("d1", *((day, stage, "10.00", None) for day, stage in states))
    world.read(tmp_path)
    for period, decided in (("2025-01-01/2025-01-31", 1), ("2025-05-01/2025-05-31", 0)):
        rows = ask("set-and-seen", period, "2025-06-30")
        assert rows["s3"]["decided"] == decided


def test_a_deal_added_by_mistake_is_removed_as_if_it_had_never_been(demo, sign_in):
    """Within the hour, by who added it, while nothing else belongs to it; then the figures are what they were."""
    client, figures = sign_in("m1"), "/forecast/table.csv"
    before, stood = client.get(figures).content, Deal.objects.count()
    new = {"name": "Mistaken", "account": "", "stage": "ns_offer", "amount": "90000", "expected_close": "2026-12-01"}
    new |= {"owner": "r08", "deal_type": "", "source": "", "next_step": "", "next_step_on": ""}
    page = client.post("/deals/new-deal/", new)["Location"]
    assert client.get(figures).content != before
    assert "Mistaken: added." in text(client.get("/deals/?view=lanes"))
    shown = client.get(page)
    back = {"revision": shown.context["undo"].revision, "next": page}
    assert sign_in("a1", apart=True).post(f"{page}revert/", back).status_code == 409
    activity = {"deal": "mistaken", "kind": "phone", "subject": "Asked", "on": "2026-11-23", "next": page}
    client.post("/customers/activities/", activity)
    refused = client.post(f"{page}revert/", back)
    assert (refused.status_code, "belongs to “Mistaken” already" in text(refused)) == (409, True)
    Activity.objects.filter(deal__key="mistaken").delete()
    removed = client.post(f"{page}revert/", back, follow=True)
    assert removed.redirect_chain == [("/deals/", 302)]
    assert "Mistaken was removed." in text(removed)
    assert (client.get(figures).content, Deal.objects.count()) == (before, stood)
    assert client.get(page).status_code == 404
    assert AuditEntry.objects.get(action="deal removed").before == "Mistaken"
    for stays in (False, True):
        page = client.post("/deals/new-deal/", new | {"account": "Brand New", "is_new": "on"})["Location"]
        if stays:
            client.post("/customers/account/brand_new/contacts/", {"name": "Ann"})
        back["revision"] = DealRevision.objects.get(deal__key="mistaken").pk
        removed = client.post(f"{page}revert/", back, follow=True)
        assert ("Mistaken and the new customer Brand New were removed." in text(removed)) is not stays
        assert Account.objects.filter(key="brand_new").exists() is stays
    later = client.post("/deals/new-deal/", new)["Location"]
    DealRevision.objects.filter(deal__key="mistaken").update(effective_at=now() - timedelta(minutes=61))
    back["revision"] = DealRevision.objects.get(deal__key="mistaken").pk
    assert client.post(f"{later}revert/", back).status_code == 409
