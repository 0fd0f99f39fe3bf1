"""Tallies kept and shared, dashboards arranged, meetings and what is agreed in them, intervals and statements."""

from datetime import date, timedelta

import pytest

from wise_tally.domain.dashboards.models import Dashboard, Tally
from wise_tally.domain.org.models import AgreedAction, AuditEntry, Meeting
from wise_tally.domain.targets.models import CommissionStatement

pytestmark = pytest.mark.django_db
KEPT = "show=won&by=source"


def keep(client, name, **more):
    return client.post("/team/report/keep/?process=renewal", {"kept": KEPT, "name": name, **more})


def test_a_tally_is_kept_shared_copied_and_taken_away(demo, sign_in):
    """Its own part of the scope stays with it; others see it once shared, may copy but not change it."""
    mine, other = sign_in("m1", apart=True), sign_in("r08", apart=True)
    assert keep(mine, "Renewals by source", pin="process").status_code == 302
    tally = Tally.objects.get(name="Renewals by source")
    assert tally.query == "by=source&process=renewal"
    assert "Renewals by source" not in other.get("/team/saved-reports/").content.decode()
    assert other.post(f"/team/saved-reports/{tally.key}/", {"what": "share"}).status_code == 404
    mine.post(f"/team/saved-reports/{tally.key}/", {"what": "share"})
    assert "Renewals by source" in other.get("/team/saved-reports/").content.decode()
    assert other.post(f"/team/saved-reports/{tally.key}/", {"what": "away"}).status_code == 403
    keep(other, "Renewals by source")
    assert Tally.objects.filter(name="Renewals by source").count() == 2
    keep(mine, "Renewals by source", shared="yes")
    tally.refresh_from_db()
    assert (tally.query, tally.shared) == ("by=source", True)
    mine.post(f"/team/saved-reports/{tally.key}/", {"what": "away"})
    assert not Tally.objects.filter(pk=tally.pk).exists()
    assert AuditEntry.objects.filter(action="tally: away", before="by=source").exists()
    away = mine.get("/team/saved-reports/").context["away"]
    back = {"kept": away["query"], "name": away["name"], "shared": "yes", "pin": away["parts"], "what": "put back"}
    mine.post("/team/report/keep/?process=new_site", back)
    assert Tally.objects.get(owner__key="m1", name="Renewals by source").query == "by=source"
    assert not mine.get("/team/saved-reports/").context["away"]
    assert keep(mine, " ").status_code == 422
    assert keep(mine, "x" * 201).status_code == 422


def test_tiles_follow_the_page_but_for_what_is_their_own(demo, sign_in):
    """One filter line for all; a tile with its own process says so and shows it; one not open to the viewer says so."""
    mine = sign_in("m1", apart=True)
    keep(mine, "All renewals", pin="process")
    mine.post("/team/report/keep/?who=team:north", {"kept": KEPT, "name": "North only", "pin": "who"})
    mine.post("/team/dashboards/", {"name": "Two"})
    board = Dashboard.objects.get(name="Two")
    for tally in ("all_renewals", "north_only", "won-by-source"):
        mine.post(f"/team/dashboards/{board.key}/change/", {"what": "add", "tally": tally})
    mine.post(f"/team/dashboards/{board.key}/settings/", {"name": "Two", "audience": "all"})
    page = mine.get(f"/team/?board={board.key}&period=FY2027-Q2")
    tiles = {tile.key: tile for tile in page.context["tiles"]}
    assert tiles["all_renewals"].pinned == "Renewal and extension"
    assert {tile.line.period.text for tile in tiles.values()} == {"FY2027-Q2"}
    sums = {key: sum(row.cells[0].value for row in tile.result.rows) for key, tile in tiles.items()}
    alone = mine.get("/team/report/?show=won&by=source&period=FY2027-Q2&process=renewal").context["tile"].result
    assert sums["all_renewals"] == sum(row.cells[0].value for row in alone.rows) < sums["won-by-source"]
    rep = sign_in("r08", apart=True).get(f"/team/?board={board.key}")
    assert "do not have access" in {tile.key: tile for tile in rep.context["tiles"]}["north_only"].refused
    assert rep.status_code == 200


def test_a_dashboard_is_arranged_on_the_state_that_was_seen(demo, sign_in):
    """Order, width, taking off; a change made on an old state is refused; More than eight are hard to read tallies are warned of."""
    mine = sign_in("m1", apart=True)
    mine.post("/team/dashboards/team/copy/", {"name": "Ours"})
    board = Dashboard.objects.get(name="Ours")
    address, number = f"/team/dashboards/{board.key}/change/", str(board.number)

    def placed():
        return list(board.tiles.order_by("place").values_list("tally", flat=True))

    before = placed()
    assert mine.post(address, {"what": "after", "tally": before[0], "number": number}).status_code == 302
    assert placed() == [before[1], before[0], *before[2:]]
    refused = mine.post(address, {"what": "off", "tally": before[2], "number": number})
    assert (refused.status_code, len(placed())) == (409, len(before))
    mine.post(address, {"what": "order", "order": ",".join(reversed(placed()))})
    assert placed()[-1] == before[1]
    assert mine.post(address, {"what": "order", "order": "won-by-source"}).status_code == 422
    mine.post(address, {"what": "wide", "tally": before[2]})
    assert board.tiles.get(tally=before[2]).wide
    for tally in ("win-rate", "days-in-stage", "leads-by-source"):
        mine.post(address, {"what": "add", "tally": tally})
    assert "More than eight are hard to read" in mine.get(f"/team/?board={board.key}").content.decode()
    assert sign_in("r08", apart=True).post(address, {"what": "off", "tally": before[2]}).status_code == 404
    kept = placed()
    mine.post(f"/team/dashboards/{board.key}/settings/", {"what": "away"})
    assert not Dashboard.objects.filter(name="Ours").exists()
    assert mine.get("/team/").context["away"] == "Ours"
    mine.post("/team/dashboards/", {"what": "put back"})
    board = Dashboard.objects.get(name="Ours")
    assert placed() == kept
    assert board.tiles.get(tally=before[2]).wide
    turns = mine.get(f"/team/wall/?boards={board.key}&boards=team").context["turns"]
    assert mine.get(turns).context["board"].key == "team"
    pack = mine.get(f"/team/pack/?boards={board.key}&boards=team").content.decode()
    assert pack.count("sheet-of-pack") == 2


def test_who_begins_with_which_dashboard(demo, sign_in):
    """The own choice goes before the team's, that before the role's, that before the first shipped."""
    boss, rep = sign_in("m1", apart=True), sign_in("r08", apart=True)
    shown = lambda client: client.get("/team/").context["board"].name  # noqa: E731 - one line says it
    assert shown(rep) == "Team"
    for name, audience in (("For reps", "role:rep"), ("For rivers", "team:rivers")):
        boss.post("/team/dashboards/", {"name": name})
        key = Dashboard.objects.get(name=name).key
        boss.post(f"/team/dashboards/{key}/settings/", {"name": name, "audience": audience, "starts": "yes"})
        assert shown(rep) == name
    assert shown(sign_in("r01", apart=True)) == "For reps"
    rep.post("/team/dashboards/process/start/", {"start": "yes"})
    assert shown(rep) == "Conversion"
    rep.post("/team/dashboards/", {"name": "Mine"})
    mine = Dashboard.objects.get(name="Mine")
    refused = rep.post(f"/team/dashboards/{mine.key}/settings/", {"name": "Mine", "audience": "all"})
    assert refused.status_code == 403
    assert boss.get(f"/team/?board={mine.key}").status_code == 404


def test_a_point_of_the_agenda_counts_the_deals_that_its_button_shows(demo, sign_in):
    boss, looked = sign_in("m1"), set()
    for rep in ("r02", "r05", "r06", "r09"):
        for row in boss.get(f"/team/one-to-ones/{rep}/").context["rows"]:
            there = boss.get(row.href)
            assert there.status_code == 200
            if row.action == "Show deals":
                looked.add(row.finding.kind.key)
                assert there.context["list"].total == len(row.finding.deals), (rep, row.text)
    assert {"silent", "stays_long", "unlikely"} <= looked


def test_what_is_agreed_is_carried_over_until_it_is_done(demo, sign_in):
    """Notes and actions of a one-to-one; a second window's notes are not lost; the rep ticks; the next compares with it."""
    boss, rep, other = (sign_in(key, apart=True) for key in ("m1", "r08", "r01"))
    page = "/team/one-to-ones/r08/"
    action = {"text": "Ring the harbour master", "due_on": "2026-11-27"}
    kept = {"notes": "Port signs in December.", "expected": ""} | action
    assert boss.post(f"{page}notes/", kept).status_code == 302
    meeting = Meeting.objects.get(by__key="m1", person_key="r08")
    assert (meeting.held_on, meeting.notes) == (date(2026, 11, 23), "Port signs in December.")
    refused = boss.post(f"{page}notes/", {"notes": "Something else", "expected": ""})
    assert refused.status_code == 409
    assert "Port signs in December." in refused.content.decode()
    alone = {"HTTP_X_SAVES_ITSELF": "yes"}
    other_window = boss.post(f"{page}notes/", {"notes": "Something else", "expected": ""}, **alone)
    assert (other_window.status_code, "Port signs in December." in other_window.json()["words"]) == (409, True)
    typed = boss.post(f"{page}notes/", {"notes": "Port signs in May.", "expected": "Port signs in December."}, **alone)
    assert typed.json()["expected"] == Meeting.objects.get(pk=meeting.pk).notes == "Port signs in May."
    meeting.refresh_from_db()
    action = AgreedAction.objects.get(text="Ring the harbour master")
    assert "Ring the harbour master" in rep.get(page).content.decode()
    assert other.get(page).status_code == 403
    assert rep.post(f"{page}agreed/{action.key}/", {"done": "yes"}).status_code == 302
    action.refresh_from_db()
    assert action.done_on == date(2026, 11, 23)
    assert action not in boss.get(page).context["actions"]
    assert rep.post(f"{page}notes/", kept).status_code == 403
    assert boss.post(f"{page}notes/", {**kept, "due_on": "soon", "expected": meeting.notes}).status_code == 422
    assert boss.get(f"{page}?as_of=2026-11-30").context["since"] == date(2026, 11, 23)
    Meeting.objects.create(by_id=meeting.by_id, person_key="r01", held_on=date(2026, 11, 20), notes="not for others")
    viewer_page = sign_in("r01", apart=True).get("/team/one-to-ones/r01/").content.decode()
    assert "not for others" in viewer_page


def test_the_interval_is_the_firms_own(demo, sign_in):
    """A longer interval of a class of account empties the columns; the deal's own working says so; bad input is refused."""
    boss = sign_in("m1", apart=True)

    def beyond():
        whole = boss.get("/team/contact-gaps/").context["whole"].cells
        return sum(cell.cell.deals for cell in whole[1:5]), whole[5].cell.deals

    before = beyond()
    rows = boss.get("/setup/contact-intervals/").context["rows"]
    typed = {f"days-{place}": "1000" for place, *_ in rows}
    assert boss.post("/setup/contact-intervals/", typed | {"days-0": "0"}).status_code == 422
    assert beyond() == before
    boss.post("/setup/contact-intervals/", typed)
    assert before[0] > 0
    assert beyond() == (0, before[1])
    assert "1000.0" in boss.get("/deals/d9001/working/gap/").content.decode().replace("\u00a0", "")
    boss.post("/setup/contact-intervals/", {})
    assert beyond()[0] > 0


def test_open_by_rep_opens_the_deals_behind_a_part_and_edits_them(demo, sign_in):
    """The part is the sum of its deals' parts; after an edit the page is the same place."""
    boss = sign_in("m1", apart=True)
    place = "/team/deals-by-rep/?along=stage&rep=r08&part=4"
    page = boss.get(place)
    cell = next(row for row in page.context["rows"] if row.key == "r08").cells[4].cell
    assert cell.amount_minor == sum(part for _, part in page.context["opened"]) == page.context["opened_minor"]
    row = next(row for row, _ in page.context["opened"] if row.key == "d9001")
    typed = {"stage": row.stage, "amount": "400000.00", "expected_close": "2026-12-22", "category": ""}
    answer = boss.post("/deals/d9001/change/", {**typed, "revision": row.revision, "next": place})
    assert answer.url == place
    assert boss.get(place).context["opened_minor"] == cell.amount_minor - 2_000_000
    account = boss.get(f"/customers/account/ac001/?next={place.replace('&', '%26')}").content.decode()
    assert place.replace("&", "&amp;") in account
    assert boss.get("/team/deals-by-rep/?part=77&rep=r08").status_code == 400
    assert boss.get("/team/deals-by-rep/?rep=nobody").status_code == 404


def test_a_statement_is_kept_and_compared(demo, sign_in):
    """Handed out, then a deal is reopened: the line is gone and the page says by how much."""
    from wise_tally.domain.deals.models import DealRevision

    boss = sign_in("a1", apart=True)
    address = "/attainment/commissions/of/r01/"
    before = boss.get(address).context
    boss.post(f"{address}hand-out/")
    kept = CommissionStatement.objects.get(subject_key="r01")
    assert len(kept.lines) == len(before["rows"]) > 0
    assert boss.get(address).context["changes"] == []
    row = before["rows"][0]
    last = DealRevision.objects.filter(deal__key=row.key).order_by("-pk")[0]
    stage = last.stage.process.stages.filter(kind="open").order_by("-position")[0]
    typed = {"stage": stage.key, "amount": "1.00", "expected_close": "2026-12-01", "revision": last.pk, "category": ""}
    answer = boss.post(f"/deals/{row.key}/change/", {**typed, "reason": "signed too early", "next": "/"})
    assert answer.status_code == 302, answer.content.decode()[:2000]
    changes = boss.get(address).context["changes"]
    assert sum(one.commission_minor for _, one in changes) == -(row.line.commission_minor or 0)
    assert sign_in("r02", apart=True).get(address).status_code == 404


def test_a_week_reads_calls_and_targets(demo, sign_in):
    """The call for a week goes before what was due; phone targets are the quota's share of the week."""
    rep, boss = sign_in("r08", apart=True), sign_in("m1", apart=True)
    rep.post("/forecast/submitted/?period=2026-W48", {"amount:person:r08": "12345.00", "reason:person:r08": "the port"})
    line = next(one for one in boss.get("/team/this-week/").context["lines"] if one.key == "r08")
    assert (line.row.set_out_minor, line.row.has_submitted) == (1_234_500, True)
    target = line.done[0][1].forecast.quota
    assert target == 300, "three a week"
    assert boss.get("/team/this-week/?period=2026-W47").context["week"].starts_on == date(2026, 11, 23) - timedelta(
        days=7
    )


@pytest.mark.parametrize(
    ("show", "told"), [("open", " together"), ("mean_open", "not drawn"), ("win_rate", "not drawn")]
)
def test_rows_that_bars_leave_out_are_added_up_where_they_make_a_whole(demo, sign_in, show, told):
    words = sign_in("m1").get(f"/team/report/?show={show}&by=person").context["tile"].result.not_in_bars
    assert words.endswith(told)
