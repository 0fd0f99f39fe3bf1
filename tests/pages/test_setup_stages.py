"""Processes and stages: effect before saving, order, names, retiring and merging; the past stays as it stood."""

from datetime import UTC, date, datetime

import pytest

from tests.support.answers import text
from tests.support.naive import cents, half_even
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.models import AuditEntry
from wise_tally.domain.process.check_language import SENTENCES, read_check, sentence_of, subject_kinds
from wise_tally.domain.process.models import Category, Process, Stage, StageRule

pytestmark = pytest.mark.django_db
AS_OF, QUARTER = "2026-11-23", "FY2027-Q3"
PAGE = "/setup/stages/new_site/"


def form(client, **changed):
    """What the page would post, with some fields typed over."""
    from wise_tally.domain.process.actions import rule_in_force
    from wise_tally.pages.setup.stages.form import TICKED, TYPED, StageRow

    posted = {"from_on": AS_OF}
    for stage in Stage.objects.filter(process__key="new_site", retired=False):
        row = StageRow.saved(stage, rule_in_force(stage, datetime(2026, 11, 23, 13, tzinfo=UTC)))
        posted |= {f"{name}:{stage.key}": row.values[name] for name in (*TYPED, *TICKED)}
        posted[f"expected:{stage.key}"] = row.expected
    return posted | {name.replace("__", ":"): value for name, value in changed.items()}


STAGE_FAULTS = [("probability__ns_offer", "101", "0 to 100"), ("probability__ns_offer", "abc", "12.5"),
                ("typical_days__ns_offer", "-1", "days from 0"), ("name__ns_offer", "", "needs a name"),
                ("name__ns_offer", "terms", "Give each stage its own name."), ("from_on", "2020-01-01", "is not valid")]  # fmt: skip


@pytest.mark.parametrize(("field", "typed", "says"), STAGE_FAULTS)
def test_bad_stage_values_are_refused_and_kept(demo, sign_in, field, typed, says):
    client, before = sign_in("m1"), StageRule.objects.count()
    answer = client.post(PAGE, form(client, probability__ns_terms="33", **{field: typed}, confirmed="yes"))
    assert answer.status_code == 422
    assert says in answer.content.decode()
    assert 'value="33"' in answer.content.decode()
    assert StageRule.objects.count() == before


def test_the_effect_is_shown_before_and_is_what_happens_then(demo, sign_in):
    """Weighted before and after of each stage, in a plain loop over the open deals; nothing is written before the second press."""
    client, rules = sign_in("m1"), StageRule.objects.count()
    book = books.current()
    snapshot = book.as_of(date(2026, 11, 23))
    offer = next(i for i, stage in enumerate(book.reference.stages) if stage.key == "ns_offer")
    amounts = snapshot.amount_minor[(snapshot.stage == offer) & (snapshot.category != 3)].tolist()
    before = cents(ask("forecast", "2000-01-01/2100-01-01", AS_OF, by="process")["new_site"]["weighted_open"])
    posted = form(client, probability__ns_offer="35")
    effect = client.post(PAGE, posted).context["effect"]
    row = next(row for row in effect.stages if row.stage == offer)
    assert row.deals_open == int((snapshot.stage == offer).sum()) == row.deals_moved
    assert row.weighted_before == sum(half_even(amount * 60 / 100) for amount in amounts)
    assert row.weighted_after == sum(half_even(amount * 35 / 100) for amount in amounts)
    assert effect.change == row.change < 0
    assert StageRule.objects.count() == rules
    assert client.post(PAGE, posted | {"confirmed": "yes"}).status_code == 302
    after = cents(ask("forecast", "2000-01-01/2100-01-01", AS_OF, by="process")["new_site"]["weighted_open"])
    assert after - before == effect.change
    entry = AuditEntry.objects.order_by("-pk")[0]
    assert '"probability_bp": 6000' in entry.before
    assert '"probability_bp": 3500' in entry.after


def test_two_who_edit_one_stage_see_both_values(demo, sign_in):
    client = sign_in("m1")
    first, second = form(client, probability__ns_offer="35"), form(client, probability__ns_offer="40")
    unrelated = form(client, typical_days__ns_terms="17")
    assert client.post(PAGE, first | {"confirmed": "yes"}).status_code == 302
    answer = client.post(PAGE, second | {"confirmed": "yes"})
    assert answer.status_code == 422
    assert "to “35”; you entered “40”" in answer.content.decode()
    assert client.post(PAGE, unrelated | {"confirmed": "yes"}).status_code == 302
    assert StageRule.objects.filter(stage__key="ns_offer").order_by("-effective_at")[0].probability_bp == 3500


def test_later_rules_wait_and_can_be_taken_back(demo, sign_in):
    client = sign_in("m1")
    posted = form(client, probability__ns_offer="10") | {"from_on": "2027-01-01", "confirmed": "yes"}
    before = ask("forecast", QUARTER, AS_OF)
    client.post(PAGE, posted)
    assert ask("forecast", QUARTER, AS_OF) == before
    later = StageRule.objects.order_by("-effective_at")[0]
    assert client.post(PAGE + "ns_offer/", {"rule": later.pk}).status_code == 302
    past = StageRule.objects.order_by("effective_at")[0]
    assert client.post(f"{PAGE}{past.stage.key}/", {"rule": past.pk}).status_code == 409
    assert StageRule.objects.filter(pk=later.pk).count() == 0


def test_stages_are_added_ordered_retired_and_restored(demo, sign_in):
    client = sign_in("m1")
    order = ["ns_terms", "ns_offer", "ns_enquiry", "ns_survey", "ns_plan"]
    assert sorted(order) == sorted(
        Stage.objects.filter(process__key="new_site", kind="open").values_list("key", flat=True)
    )
    client.post(PAGE + "move/", {"order": ",".join(order)})
    assert client.post(PAGE + "move/", {"order": "ns_offer"}).status_code == 409
    listed = Stage.objects.filter(process__key="new_site").order_by("position")
    assert [stage.key for stage in listed][:5] == order
    client.post(PAGE + "retire/", {"stage": "ns_plan", "what": "retire"})
    new = {"what": "add", "kind": "open", "probability": "45", "category": "commit"}
    again = client.post(PAGE, new | {"name": "station PLAN"})
    assert "is retired; restore it instead" in again.content.decode()
    assert 'value="restore"' in again.content.decode()
    client.post(PAGE + "retire/", {"stage": "ns_plan", "what": "restore"})
    assert not Stage.objects.get(key="ns_plan").retired
    wrong = (
        ({}, "name", "already exists. Choose another name."),
        ({"kind": "won"}, "kind", "exactly one won"),
        ({"probability": ""}, "probability", "from 0 to 100"),
        ({"category": "x"}, "category", "valid choice"),
    )
    for typed, field, says in wrong:
        refused = client.post(PAGE, new | {"name": "Offer"} | typed)
        assert (refused.status_code, list(refused.context["adding"].errors)) == (422, [field])
        assert says in refused.context["adding"].errors[field][0]
        assert refused.context["adding"]["name"].value() == "Offer", "what was typed stays"
    client.post(PAGE, new | {"name": "Trial run"})
    assert [stage.name for stage in listed.all()][5] == "Trial run"
    for stage in Stage.objects.filter(process__key="new_site").exclude(kind="open"):
        assert client.post(PAGE + "retire/", {"stage": stage.key, "what": "retire"}).status_code == 409


def test_merging_moves_deals_from_now_on_and_leaves_the_past(demo, sign_in):
    client = sign_in("m1")
    figures = ("forecast", "conversion", "time-in-stage", "attainment")
    before = [ask(name, "FY2027-Q2", "2026-09-30", by="team", process="new_site") for name in figures]
    here = [int(d) for d in Deal.objects.values_list("pk", flat=True)]
    count = DealRevision.objects.count()
    asked = {"stage": "ns_survey", "what": "merge", "into": "ns_plan"}
    shown = client.post(PAGE + "retire/", asked)
    assert "Not saved yet." in shown.content.decode()
    assert DealRevision.objects.count() == count
    weighted = cents(ask("forecast", "2000-01-01/2100-01-01", AS_OF, by="process")["new_site"]["weighted_open"])
    text = client.post(PAGE + "retire/", asked | {"confirmed": "yes"}, follow=True)
    after = cents(ask("forecast", "2000-01-01/2100-01-01", AS_OF, by="process")["new_site"]["weighted_open"])
    assert after - weighted == shown.context["merge"]["effect"].change > 0
    moved = DealRevision.objects.count() - count
    assert f"{moved} deals moved" in text.content.decode()
    assert moved > 10
    assert [ask(name, "FY2027-Q2", "2026-09-30", by="team", process="new_site") for name in figures[:1]] == before[:1]
    books.forget()
    assert ask("forecast", "FY2027-Q2", "2026-09-30", by="team", process="new_site") == before[0]
    assert ask("attainment", "FY2027-Q2", "2026-09-30", by="team", process="new_site") == before[3]
    snapshot = books.current().as_of(date(2026, 11, 23))
    survey = next(i for i, stage in enumerate(books.current().reference.stages) if stage.key == "ns_survey")
    assert not (snapshot.stage == survey).any()
    assert len(snapshot.deal) == len(here)
    refused = client.post(PAGE + "retire/", {"stage": "ns_plan", "what": "merge", "into": "rn_review"})
    assert refused.status_code == 404


def test_processes_start_from_the_neutral_starter_or_empty(db, client):
    from django.contrib.auth.models import User

    from wise_tally.domain.org.models import Person

    user = User.objects.create(username="first")
    Person.objects.create(key="first", name="First", role="admin", user=user)
    client.force_login(user)
    client.post("/setup/processes/", {"name": "Direct", "start": "starter"})
    client.post("/setup/processes/", {"name": "Tender", "start": "empty"})
    kinds = {p.name: [s.kind for s in p.stages.order_by("position")] for p in Process.objects.all()}
    assert kinds == {"Direct": ["open"] * 4 + ["won", "lost"], "Tender": ["won", "lost"]}
    Stage.objects.update(category=None)
    Category.objects.all().delete()
    client.post("/setup/stages/tender/", {"what": "add", "name": "Bid", "kind": "open", "probability": "40"})
    assert Process.objects.get(key="tender").stages.filter(name="Bid", category=None).exists(), "where there are none"
    taken = client.post("/setup/processes/", {"name": "direct", "start": "empty"})
    assert (taken.status_code, taken.context["form"]["name"].value()) == (422, "direct")
    assert "A process named “Direct” already exists. Choose another name." in taken.context["form"]["name"].errors
    renamed = client.post("/setup/processes/", {"process": "tender", "name": "DIRECT"})
    of = {process.key: form for process, form in renamed.context["rows"]}
    assert (of["tender"]["name"].value(), bool(of["tender"].errors), of["direct"].errors) == ("DIRECT", True, {})
    assert not renamed.context["form"].is_bound, "what is wrong with a name stands where it was typed"
    assert client.post("/setup/processes/", {"process": "tender", "name": "tender"}).status_code == 302
    assert Process.objects.get(key="tender").name == "tender"
    assert client.get("/setup/stages/direct/").status_code == 200
    assert client.get("/forecast/").status_code == 200


def test_entry_rules_are_picked_and_read_back(demo, sign_in):
    """Each test with each subject it fits gives a sentence that is read; numbers as anywhere; faults beside the rules."""
    client, page = sign_in("m1"), "/setup/stages/new_site/ns_offer/"

    def pick(**parts):
        answer = client.post(f"{page}", {"what": "add-check", **parts}, follow=True)
        return text(answer), list(Stage.objects.get(key="ns_offer").checks.values_list("text", flat=True))

    said, kept = pick(about="field:amount", asks="at least", bound="12.5k")
    assert (kept[-1], "was added" in said) == ("amount is at least 12500", True)
    assert pick(about="question:", asked="Is the budget  approved?", asks="answered yes")[1][-1] == (
        '"Is the budget approved?" is answered yes')  # fmt: skip
    assert pick(about="activity:meeting", asks="done")[1][-1] == "a meeting is done"
    assert (
        pick(about="mover:", asked="manager or administrator", asks="mover")[1][-1]
        == "moved by manager or administrator"
    )
    for wrong, says in (
        ({"about": "field:amount", "asks": "at least"}, "enter the value"),
        ({"about": "field:amount", "asks": "at least", "bound": "lots"}, "“lots” is not valid"),
        ({"about": "field:amount", "asks": "not past"}, "“amount” is not a date"),
        ({"about": "field:moon", "asks": "filled"}, "“moon” is not a field"),
        ({"about": "mover:", "asked": "the cat", "asks": "mover"}, "neither a role nor a person"),
    ):
        said, after = pick(**wrong)
        assert says in said
        assert len(after) == 4
    client.post(f"{page}", {"what": "check-away", "line": "a meeting is done"})
    assert "a meeting is done" not in pick(about="field:source", asks="filled")[1]
    subjects = {
        **subject_kinds({"Site access": "choice"}),
        "meeting": "activity",
        "manager": "mover",
        "Why?": "question",
    }
    for name, kind in subjects.items():
        forms = [asks for asks, form in SENTENCES.items() if kind in form.kinds]
        assert forms
        for asks in forms:
            sentence = sentence_of(asks, name, "30")
            assert read_check(sentence, {"Site access": "choice"}).subject == name


def test_a_new_stage_is_not_committed_unless_somebody_says_so(demo, sign_in):
    """Of the categories that the forecast includes, the least certain one is proposed."""
    assert '<option value="early" selected>' in text(sign_in("a1").get(PAGE))
