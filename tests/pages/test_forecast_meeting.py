"""The weekly meeting: what changed, the range, and calls by three roles."""

from datetime import UTC, date, datetime, timedelta
from random import Random

import numpy as np
import pytest

from tests.support.answers import text
from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.bridge import MEASURES, bridge, bridge_moves, shift_of
from wise_tally.core.lines import Filter
from wise_tally.core.money import weighted_minor
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.observed_weight import look_back_of, observed_probabilities, weighted_by_observed
from wise_tally.core.outcome import outcome
from wise_tally.domain.deals.models import Deal, DealCredit
from wise_tally.domain.formats import percent
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import AuditEntry, Meeting, Person
from wise_tally.domain.targets.models import Call

pytestmark = pytest.mark.django_db
QUARTER, AS_OF, TODAY = "FY2027-Q3", "2026-11-23", date(2026, 11, 23)


def test_causes_and_shifts_sum_exactly_for_200_random_pairs_of_days(demo):
    """Random days, periods and scopes; bridge and shift table against each other and the forecast itself."""
    book, random = books.current(), Random(11)
    reference = book.reference
    periods = [reference.fiscal.parse(t) for t in (QUARTER, "FY2027-Q2", "FY2027", "FY2027-M08", "2026-W45")]
    moved = 0
    for _ in range(200):
        days = sorted(TODAY - timedelta(days=random.randint(0, 400)) for _ in range(2))
        scope = random.choice([Filter(), Filter(team=random.randrange(len(reference.teams))), Filter(process=0),
                               Filter(person=random.randrange(len(reference.people))),
                               Filter(territory=random.randrange(len(reference.territories)))])  # fmt: skip
        measure, period = random.choice(MEASURES), random.choice(periods)
        before, after = (book.as_of(day) for day in days)
        rows = {row.cause: row.amount_minor for row in bridge(book, before, after, period, scope, measure)}
        change = rows.pop("end") - rows["start"]
        assert sum(amount for cause, amount in rows.items() if cause != "start") == change
        moves = bridge_moves(book, before, after, period, scope, measure)
        shift = shift_of(book, (before, after), period, scope, moves)
        assert int(shift.change.sum()) == change
        assert (shift.deals >= 0).all()
        absent = len(reference.categories) + 3
        assert int(shift.before[absent].sum()) == int(shift.after[:, absent].sum()) == 0
        moved += change != 0
    assert moved > 50, "the days chosen do tell something"


def test_the_page_of_changes_is_the_command_and_opens_its_deals(demo, sign_in):
    client = sign_in("m1")
    told = ask("bridge", QUARTER, AS_OF, since=date(2026, 10, 20), measure="open")
    query = "from=2026-10-20&measure=open"
    told.pop("scope")
    shown = {r[0]: r[1:] for r in client.get(f"/forecast/changed/table.json?{query}").json()["rows"]}
    assert {k: (v["amount"], v["deals"]) for k, v in told.items()} == {k: tuple(v) for k, v in shown.items()}
    page = client.get(f"/forecast/changed/?{query}").context
    for bar in page["bars"][1:-1]:
        opened = client.get(f"/forecast/changed/?{bar.query}").context["deals"]
        assert (opened.total, opened.change_minor) == (bar.deals, bar.amount_minor)
        assert sum(item["change"] for item in opened.rows) == bar.amount_minor or opened.total > 100
    cells = [cell for _, row, *_ in page["shift"] for cell in row if cell]
    assert sum(cell.change_minor for cell in cells) == page["change"]
    opened = client.get(f"/forecast/changed/?{cells[0].query}").context["deals"]
    assert opened.total == cells[0].deals
    for bad, says in (("from=soon", "YYYY-MM-DD"), ("from=2027-01-01", "Choose an earlier date."), ("measure=joy", "accepted"),
                      ("open=cell:x:y", "cannot be opened")):  # fmt: skip
        refused = client.get(f"/forecast/changed/?{bad}")
        assert refused.status_code == 400
        assert says in text(refused)


def test_seen_rates_weigh_what_was_seen_and_small_samples_keep_the_set_one(demo, sign_in):
    """Against a naive sum over deals with the rates of set and seen."""
    book = books.current()
    snapshot, period = book.as_of(TODAY), book.reference.fiscal.parse(QUARTER)
    window = look_back_of(period)
    assert (window.starts_on, window.ends_on) == (date(2025, 10, 1), date(2026, 9, 30))
    rates = {r.stage: r for r in probability_check(book, snapshot, window, Filter())[0].stages}
    seen = observed_probabilities(book, snapshot, period)
    for stage, rate in rates.items():
        few = rate.decided < 20
        assert (stage in seen.stages_as_set) == few
        expected = round(rate.set_rate * 10_000) if few else round(rate.observed * 10_000)
        assert abs(int(seen.probability_bp[stage]) - expected) <= 1
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    total = 0
    for at in range(len(snapshot.deal)):
        if snapshot.kind[at] == 0 and first <= snapshot.expected_close[at] <= last:
            if book.reference.categories[snapshot.category[at]].counted:
                chance = seen.probability_bp[snapshot.stage[at]]
                total += int(weighted_minor(np.array([snapshot.amount_minor[at]]), np.array([chance]))[0])
        elif snapshot.kind[at] == 1 and first <= snapshot.closed_on[at] <= last:
            total += int(snapshot.amount_minor[at])
    assert weighted_by_observed(book, snapshot, period, Filter(), "company")[0] == total
    by_team = weighted_by_observed(book, snapshot, period, Filter(), "team")
    roots = book.reference.team_tree(TODAY).children(-1)
    assert sum(by_team[root] for root in roots) + by_team.get(-1, 0) == total


def test_the_outlook_page_is_the_command(demo, sign_in):
    client = sign_in("m1")
    for query, figure in (("", "outlook"), ("?chances=set", "range")):
        told, page = ask(figure, QUARTER, AS_OF)[""], client.get(f"/forecast/outlook/{query}")
        assert list(page.context["ends"]) == [cents(told[name]) for name in ("p10", "p50", "p90")]
        assert page.context["chance"] == pytest.approx(told["chance_of_quota"])
        assert page.context["outlook"].mean_minor == cents(told["mean"])
        assert sum(b.chance for b in page.context["bins"]) == pytest.approx(1)
        parts, _ = page.context["built"]
        assert sum(part.minor for part in parts) == cents(told["mean"])
        rows = client.get(f"/forecast/outlook/table.json{query}").json()["rows"]
        assert len(rows) == len(page.context["bins"])
    assert next(part.minor for part in parts) == cents(told["won"])
    assert outcome(5, np.array([], dtype=np.int64), np.array([], dtype=np.int64)).chance_of(5) == 1.0


def call(client, node, amount, reason="", query=""):
    return client.post(
        f"/forecast/submitted/{query}", {"node": node, f"amount:{node}": amount, f"reason:{node}": reason}
    )


def row_of(client, name):
    return next(row for row in client.get("/forecast/submitted/").context["rows"] if row.row.name == name)


@pytest.fixture
def nobody_called(demo):
    """The demo before anybody called."""
    Call.objects.all().delete()
    reference_changed()


def test_calls_by_three_roles_roll_up(demo, nobody_called, sign_in):
    """A rep's own call, a manager's adjustment with a reason, the company's: each kept, the rule of the roll-up held."""
    rep = sign_in("r08")
    assert call(rep, "person:r08", "400000", "barrage signs").status_code == 302
    assert call(rep, "person:r08", "+12 500").status_code == 302
    assert row_of(rep, "Joss Merrow").row.call == 41_250_000
    assert call(rep, "person:r09", "1").status_code == 404
    for wrong, says in (
        ("many", "a number from 0"),
        ("-999999999", "A forecast cannot be negative"),
        ("", "a number from 0"),
    ):
        refused = call(rep, "person:r08", wrong, "kept reason")
        assert refused.status_code == 422
        assert says in text(refused)
        assert "kept reason" in text(refused)
    team = sign_in("m4")
    before = row_of(team, "Rivers team").row.call
    assert call(team, "person:r08", "-100000", "board is late").status_code == 302
    assert row_of(team, "Joss Merrow").row.call == 31_250_000
    assert row_of(team, "Rivers team").row.call == before - 10_000_000
    assert call(team, "company:", "1").status_code == 404
    rep = sign_in("r08")
    call(rep, "person:r08", "500000", "no, it signs")
    assert row_of(rep, "Joss Merrow").row.call == 31_250_000, "a manager's goes before the own, even if older"
    head = sign_in("m1")
    call(head, "team:rivers", "700000", "as agreed")
    south = row_of(head, "South region").row.call
    coast = row_of(head, "Coast team").row.call
    assert south == 70_000_000 + coast
    call(head, "company:", "1600000", "said to the owner")
    assert ask("forecast", QUARTER, AS_OF)[""]["call"] == "1600000.00"
    history = head.get("/forecast/submitted/").context["history"]
    told = [(t.call.made_by.key, t.change_minor) for t in history if t.call.subject == "person"]
    assert told == [("r08", 18_750_000), ("m4", -10_000_000), ("r08", 1_250_000), ("r08", None)]
    assert Call.objects.count() == 6
    assert AuditEntry.objects.filter(action="call made").count() == 6
    late = head.get("/forecast/submitted/?as_of=2026-11-20").context
    assert not late["history"], "as it stood before anybody called"
    assert call(head, "company:", "5", query="?as_of=2026-11-20").status_code == 422


def test_a_due_weekday_shows_who_is_late_and_missing(demo, nobody_called, sign_in):
    head = sign_in("m1")
    assert sign_in("r08").post("/forecast/submitted/", {"due": "0"}).status_code == 403
    head = sign_in("m1")
    assert head.post("/forecast/submitted/", {"due": "12"}).status_code == 422
    head.post("/forecast/submitted/", {"due": "0"})
    call(head, "person:r02", "150000", "signed late")
    maker = Call.objects.get().made_by
    Call.objects.create(subject="person", subject_key="r03", starts_on=date(2026, 10, 1), ends_on=date(2026, 12, 31),
                        made_at=datetime(2026, 11, 10, 9, tzinfo=UTC), made_by=maker, amount_minor=1)  # fmt: skip
    page = head.get("/forecast/submitted/").context
    assert "Odran Tully" not in page["missing"] + page["late"]
    assert "Petra Sund" in page["late"]
    assert "Petra Sund" not in page["missing"]
    assert "Iva Marrin" in page["missing"]
    assert "Kit Varley" not in page["missing"], "nobody waits for who has left"


def test_the_grid_by_what_a_deal_is_adds_up_and_opens(demo, sign_in):
    """Processes, deal types and sources, with the row of those without, add up to the whole in every figure."""
    client = sign_in("m1")
    for by in ("process", "deal_type", "source"):
        rows = [cell["row"] for cell in client.get(f"/forecast/?by={by}").context["grid"]]
        told = ask("forecast", QUARTER, AS_OF, by=by)
        whole, parts = rows[0].node.row, [row.node.row for row in rows[1:]]
        for name in ("won", "open", "weighted", "commit_forecast", "overdue", "undated", "deals_open"):
            assert sum(getattr(part, name) for part in parts) == getattr(whole, name), (by, name)
        assert {part.key: part.weighted for part in parts if part.key} == {
            key: cents(row["weighted"]) for key, row in told.items() if key and key != "scope"
        }
        opened = client.get(f"/forecast/?{rows[1].toggle}")
        assert opened.status_code == 200
        assert client.get(f"/forecast/working/weighted/?{rows[1].working}").status_code == 200


def test_lanes_inside_the_period_hold_its_open_deals_only(demo, sign_in):
    client = sign_in("m1")
    told = ask("forecast", QUARTER, AS_OF)[""]["categories"]
    lanes = client.get(f"/deals/?view=lanes&by=category&within=period&period={QUARTER}").context["lanes"]
    assert {lane.key: lane.totals.amount_minor for lane in lanes} == {k: cents(v) for k, v in told.items()}
    every = client.get("/deals/?view=lanes&by=category").context["lanes"]
    assert sum(lane.totals.deals for lane in every) > sum(lane.totals.deals for lane in lanes)
    assert client.get("/deals/?view=lanes&within=ever").status_code == 400


def test_what_changed_since_the_last_meeting(demo, sign_in):
    """The demo's head of sales meets on Mondays; a meeting kept today is what tomorrow compares with."""
    client = sign_in("m1")
    presets = client.get("/forecast/changed/").context["presets"]
    assert [link.query for link in presets if link.words == "the last meeting, 16 Nov 2026"] == ["from=2026-11-16"]
    assert client.post("/forecast/changed/meeting/?who=person:r09").status_code == 302
    # Today's own meeting is not what today is compared with.
    words = [link.words for link in client.get("/forecast/changed/?who=person:r09").context["presets"]]
    assert not any("meeting" in text for text in words)
    client.post("/forecast/changed/meeting/?who=person:r09")
    assert Meeting.objects.filter(person_key="r09").count() == 1


def test_a_deal_divided_inside_a_team_is_one_outcome_on_every_page(demo, sign_in):
    """Page, range, working and command give one chance of quota; a split deal is won or lost as a whole."""
    deal = Deal.objects.get(key="d9001")
    DealCredit.objects.filter(deal=deal).delete()
    for key in ("r08", "r09"):
        DealCredit.objects.create(deal=deal, person=Person.objects.get(key=key), share_bp=5_000)
    reference_changed()
    client = sign_in("m1")
    for figure, key, way in (("outlook", "outlook_chance", "outlook"), ("range", "chance", "set")):
        told = ask(figure, QUARTER, AS_OF, by="team")["rivers"]
        ranged = client.get(f"/forecast/outlook/?who=team:rivers&chances={way}").context
        panel = client.get(f"/forecast/working/{key}/?who=team:rivers&node=team:rivers").context["panel"]
        assert ranged["chance"] == pytest.approx(told["chance_of_quota"])
        assert panel.total == str(percent(told["chance_of_quota"]))
        assert [deal.row.key for deal in ranged["deals"]].count("d9001") == 1
        if figure == "outlook":
            page = client.get("/forecast/?who=team:rivers").context["below"]
            assert page.chance == pytest.approx(told["chance_of_quota"])
            assert [page.p10, page.p50, page.p90] == [cents(told[name]) for name in ("p10", "p50", "p90")]


def test_the_weeks_of_the_picture_are_what_those_days_showed(demo, sign_in):
    """Each day of the course against the page as of that day, of the company, a team and a rep."""
    client = sign_in("m1")
    for who in ("", "&who=team:rivers", "&who=person:r08"):
        course = client.get(f"/forecast/submitted/?{who}").context["course"]
        assert course[-1].day == TODAY
        assert len(course) > 5
        for one in course:
            shown = client.get(f"/forecast/submitted/?as_of={one.day}&period={QUARTER}{who}").context["top"].row
            assert (one.submitted, one.weighted, one.won) == (shown.call, shown.weighted, shown.won)
    assert not client.get("/forecast/submitted/?period=FY2027").context["course"], "nothing was submitted for the year"


def test_several_rows_are_submitted_at_once_all_or_none(demo, nobody_called, sign_in):
    head = sign_in("m1")
    typed = {
        "amount:person:r01": "10k",
        "amount:person:r02": "20 000",
        "reason:person:r02": "told so",
        "amount:person:r03": "",
    }
    assert "Iva Marrin: No reason is given" in text(head.post("/forecast/submitted/", typed))
    typed |= {"reason_for_all": "meeting"}
    wrong = head.post("/forecast/submitted/", typed | {"amount:team:rivers": "lots"})
    assert wrong.status_code == 422
    assert "Rivers team:" in text(wrong)
    assert 'value="20 000"' in text(wrong), "what was typed stays"
    assert not Call.objects.exists()
    assert head.post("/forecast/submitted/", typed).status_code == 302
    kept = {(c.subject_key, c.amount_minor, c.reason) for c in Call.objects.all()}
    assert kept == {("r01", 1_000_000, "meeting"), ("r02", 2_000_000, "told so")}
    assert (
        head.post(
            "/forecast/submitted/", typed | {"node": "person:r01", "amount:person:r01": "+5", "reason:person:r01": "so"}
        ).status_code
        == 302
    )
    assert Call.objects.count() == 3, "the button of a row sends this row alone"
    assert 'value="20 000"' in text(head.get("/forecast/submitted/")), "what was typed into the others stays there"
    assert 'value="20 000"' not in text(head.get("/forecast/submitted/"))
    alone = head.post("/forecast/submitted/", typed | {"node": "person:r01", "amount:person:r01": "x"})
    assert ('value="20 000"' in text(alone), alone.context["wrong_row"]) == (True, "person:r01")
    assert alone.content.decode().count('aria-invalid="true" aria-describedby="not-submitted"') == 1
    assert "Enter an amount in at least one row" in text(head.post("/forecast/submitted/", {"amount:person:r01": ""}))
