"""Before, while and after a stage; the check language as a table; outbox, audit, backups."""

import io
import re
import zipfile
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.domain.test_histories import ADMIN, NOW
from tests.support.answers import text
from tests.support.naive import cents
from tests.support.processes import in_a_file
from tests.support.world import World, ask
from wise_tally import domain
from wise_tally.book.store import books
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import (
    Activity,
    Deal,
    DealAnswer,
    DealLine,
    DealRevision,
    OwnField,
    OwnFieldValue,
    Product,
)
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.audit_words import action_in_words
from wise_tally.domain.org.models import ApiToken, AuditEntry, OutboxMessage
from wise_tally.domain.org.records import as_text
from wise_tally.domain.org.token_actions import give_token, person_of_token
from wise_tally.domain.process.check_language import CheckWrong, Facts, missing, read_check
from wise_tally.domain.process.models import EntryCheck, Stage, StageFile, StageGuide, StageNotice
from wise_tally.operation import backup
from wise_tally.package.writing import write_package
from wise_tally.web.audit_entries import audit_lines

DAY = date(2026, 11, 23)
FACTS = Facts(
    {"amount": Decimal("1000.00"), "probability": None, "expected close": date(2026, 12, 1), "account": 7, "source": "",
     "products": 0, "Basin": "upper", "Depth": "3.5", "Visit": date(2026, 11, 1)},
    DAY, "rep", "r01", {"Visited?": "Yes", "Approved?": "no"}, frozenset({"meeting", "site visit"}),
)  # fmt: skip
OWN = {"Basin": "choice", "Depth": "number", "Visit": "date"}
# Sentence, and what it still misses: None where the facts meet it.
SENTENCES = [
    ("amount is filled", None),
    ("source is filled", "source must be filled"),
    ("products are filled", "products must be filled"),
    ("account is filled", None),
    ("amount is at least 1000", None),
    ("amount is at least 1000.01", "amount must be at least 1000.01"),
    ("amount is at most 999.99", "amount must be at most 999.99"),
    ("probability is at most 80", "probability must be at most 80"),
    ("Depth is at least 3", None),
    ("Basin is filled", None),
    ("expected close is within 8 days", None),
    ("expected close is within 7 days", "expected close must lie within 7 days from today"),
    ("expected close is not past", None),
    ("Visit is not past", "Visit must not be in the past"),
    ("Visit is filled", None),
    ('"Visited?" is answered', None),
    ('"Visited?" is answered yes', None),
    ('"Approved?" is answered yes', "“Approved?” must be answered yes"),
    ('"Other?" is answered', "“Other?” must be answered"),
    ("a meeting is done", None),
    ("a site visit is done", None),
    ("a phone is done", "a phone must be done"),
    ("moved by rep", None),
    ("moved by manager or r01", None),
    ("moved by manager or administrator", "only manager or administrator can move a deal here"),
]


@pytest.mark.parametrize(("sentence", "says"), SENTENCES)
def test_the_check_language(sentence, says):
    assert missing(read_check(sentence, OWN, frozenset({"r01"})), FACTS) == says


@pytest.mark.parametrize(
    ("sentence", "says"),
    [("amount > 5", "is not a rule. Use one of"), ("colour is filled", "“colour” is not a field. Choose one of: amount"),
     ("account is at least 5", "is not a number. Choose one of: amount, probability, Depth"), ("a dance is done", "is not an activity"),
     ("amount is within 5 days", "is not a date. Choose one of: expected close, Visit"), ("moved by king", "neither a role nor a person")],
)  # fmt: skip
def test_sentences_that_cannot_be_read_say_what_is_accepted(sentence, says):
    with pytest.raises(CheckWrong, match=says.replace("?", r"\?")):
        read_check(sentence, OWN)


MOMENTS = "/setup/stages/new_site/ns_terms/"


def change(client, **typed):
    """Move the large deal as its page would."""
    last = last_revision(Deal.objects.get(key="d9001"))
    kept = {
        "stage": last.stage.key,
        "amount": "420000.00",
        "expected_close": "2026-12-12",
        "category": "",
        "reason": "",
    }
    return client.post("/deals/d9001/change/", kept | {"revision": last.pk, "next": "/forecast/"} | typed)


@pytest.mark.django_db
def test_a_deal_enters_only_when_all_is_met_and_messages_go_to_the_outbox(demo, sign_in):
    client = sign_in("m1")
    EntryCheck.objects.all().delete()
    StageNotice.objects.all().delete()
    change(client, stage="ns_survey")
    deal = Deal.objects.get(key="d9001")
    bad = client.post(MOMENTS, {"what": "checks", "checks": "amount > 5\na dance is done"}, follow=True)
    assert "Line 1:" in text(bad)
    assert "Line 2:" in text(bad)
    assert "amount &gt; 5" in text(bad), "what was typed stays"
    assert [(moment, len(lines)) for moment, lines in bad.context["wrong"].items()] == [("criteria", 2)]
    assert not EntryCheck.objects.exists()
    client.post(MOMENTS, {"what": "checks", "checks": "next step is filled\n\na task is done\nmoved by manager"})
    assert EntryCheck.objects.count() == 3
    for typed, says in (({"subject": ""}, "Enter a subject."), ({"recipients": "nobody"}, "“nobody” is nobody"),
                        ({"body": "{colour}"}, "is not a field of a deal")):  # fmt: skip
        notice = {"what": "notice", "recipients": "owner", "subject": "s", "body": "", "document": "", **typed}
        assert says in text(client.post(MOMENTS, notice, follow=True))
    assert not StageNotice.objects.exists()
    notice = {
        "recipients": "owner\nmanager\nx@y.example",
        "subject": "{deal} in {stage}",
        "body": "{amount} for {account}",
    }
    client.post(MOMENTS, {"what": "notice", "document": "offer", **notice})
    product = Product.objects.create(key="g", name="Gauge")
    DealLine.objects.create(
        deal=deal, product=product, quantity_10000ths=25_000, unit_price_minor=10_001, discount_bp=1_000
    )
    before = DealRevision.objects.count()
    Deal.objects.filter(pk=deal.pk).update(next_step="")
    refused = change(client, stage="ns_terms")
    assert refused.status_code == 422
    assert "next step must be filled; a task must be done" in text(refused)
    assert "only manager" in text(change(sign_in("a1"), stage="ns_terms"))
    assert DealRevision.objects.count() == before
    Deal.objects.filter(pk=deal.pk).update(next_step="sign")
    Activity.objects.filter(deal=deal).delete()
    Activity.objects.create(key="t1", kind="task", at=deal.created_at, deal=deal)
    client = sign_in("m1")
    assert change(client, stage="ns_terms").status_code == 302
    message = OutboxMessage.objects.get()
    owner = last_revision(deal).owner
    assert message.subject == f"{deal.name} in Terms"
    assert message.to.startswith(f"{owner.name} <{owner.email}>")
    assert message.to.endswith("x@y.example")
    assert "420\u00a0000.00 EUR" in message.body
    client = sign_in("a1")
    assert "225.02" in text(client.get(f"/setup/outbox/{message.pk}/document/")), "2.5 × 100.01 less 10 % is 225.0225"
    assert message.subject in text(client.get("/setup/outbox/"))
    assert AuditEntry.objects.filter(action="entry criteria set", after__contains="a task is done").exists()
    assert "Entry criteria set" in text(client.get("/setup/audit/?find=criteria"))
    told = client.get("/setup/audit/?find=revision").context["lines"]
    assert (told[0].action, told[0].subject) == ("deal changed", deal.name), "people know no identifiers"
    for words in ("barrage changed", "Deal Barrage"):
        assert {one.subject for one in client.get("/setup/audit/", {"find": words}).context["lines"]} == {deal.name}
    AuditEntry.objects.create(at=NOW, who="x", action="lead taken in", detail="l1")
    assert [one.action for one in client.get("/setup/audit/?find=lead+added").context["lines"]] == ["lead added"]
    stage = client.get("/setup/audit/?find=criteria").context["lines"][0]
    assert (stage.who, stage.subject) == ("Ines Marchbank", "Terms")
    rate = AuditEntry(at=NOW, who="", action="commission rate set", detail=f"person {owner.key} from 2026-11-01")
    assert audit_lines([rate])[0].subject == f"{owner.name} from 2026-11-01"
    client.post("/customers/activities/", {"deal": deal.key, "kind": "phone", "subject": "Rang Ada"})
    told = client.get("/setup/audit/?find=Rang").context["lines"][0]
    assert (told.subject, told.change) == (
        deal.name, "at 23 Nov 2026 12:00; kind Phone call; status done; subject Rang Ada")  # fmt: skip
    values = {"owner": owner.key, "due_on": "2026-12-01", "unit_price_minor": 12_000, "own": {"site": "2026-00-00"}}
    entry = AuditEntry(at=NOW, action="partner changed", detail="partner p", before=as_text(values),
                       after=as_text(values | {"owner": None, "due_on": "", "unit_price_minor": 13_050, "own": {}}))  # fmt: skip
    assert audit_lines([entry])[0].change == (f"due on 1 Dec 2026 → none; owner {owner.name} → none;"
                                          " unit price 120.00 → 130.50; site 2026-00-00 → none")  # fmt: skip


def test_the_audit_speaks_the_words_of_the_pages():
    """Actions keep the names they were first written down by; what is shown follows the pages."""
    sources = "".join(path.read_text() for path in Path(domain.__path__[0]).rglob("*.py"))
    actions = set(re.findall(r'audit\(\s*[^,]+,\s*f?"([^"]+)"', sources))
    assert len(actions) > 60
    for action in (re.sub(r"\{'(.*?)' if .*? else '(.*?)'\}", side, one) for one in actions for side in (r"\1", r"\2")):
        words = action_in_words(action)
        assert not re.search(r"\b(away|put back|tally|handed|dropped|taken in|notice|begun)\b", words), action


@pytest.mark.django_db
def test_stages_not_to_be_skipped_and_answers(tmp_path):
    from wise_tally.domain.deals.actions import Closing, DealState, StageRefused, Typed, change_deal

    World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01")).read(tmp_path)
    deal, reference = Deal.objects.get(), books.current().reference
    Stage.objects.filter(key="s2").update(required=True)
    EntryCheck.objects.create(stage=Stage.objects.get(key="s2"), position=1, text='"Visited?" is answered yes')

    def move(stage, answers=None):
        state = DealState(Stage.objects.get(key=stage), 1000_00, date(2026, 12, 1), None)
        typed = Typed(answers or {}, closing=Closing(lost_reason="Price"))
        return change_deal(ADMIN, reference, deal, last_revision(deal).pk, state, "", NOW, typed)

    for stage in ("s3", "w"):
        with pytest.raises(StageRefused, match="two must not be skipped"):
            move(stage)
    with pytest.raises(StageRefused, match="must be answered yes"):
        move("s2", {"Visited?": "no"})
    assert not DealAnswer.objects.exists(), "a refused change keeps nothing"
    move("s2", {"Visited?": "Yes"})
    move("w")
    assert DealRevision.objects.count() == 3
    move("s1")
    move("l")
    assert DealAnswer.objects.get().answer == "Yes"


@pytest.mark.django_db
def test_what_a_stage_asks_can_be_typed_where_it_is_refused(demo, sign_in):
    client = sign_in("a1")
    change(client, stage="ns_survey")
    OwnField.objects.create(key="depth", applies_to="deal", name="Depth", kind="number")
    checks = '"Visited?" is answered yes\nDepth is at least 3\ncampaign is filled\nsource is filled'
    client.post(MOMENTS, {"what": "checks", "checks": checks})
    Deal.objects.filter(key="d9001").update(source="", campaign="")
    refused = text(change(client, stage="ns_terms"))
    for name in ("answer:Visited?", "detail:Depth", "detail:campaign", "detail:source"):
        assert f'name="{name}"' in refused
    typed = {
        "answer:Visited?": "yes",
        "detail:Depth": "deep",
        "detail:campaign": "Spring",
        "detail:source": "Field day",
    }
    again = text(change(client, stage="ns_terms", **typed))
    assert "is not a number. Enter a number such as 12.5." in again
    assert 'value="Spring"' in again, "what was typed stays"
    assert Deal.objects.get(key="d9001").campaign == ""
    assert change(client, stage="ns_terms", **typed | {"detail:Depth": "3.5"}).status_code == 302
    deal = Deal.objects.get(key="d9001")
    assert (deal.campaign, deal.source, last_revision(deal).stage.key) == ("Spring", "Field day", "ns_terms")
    assert OwnFieldValue.objects.exclude(field__key="site_access").get().value == "3.5"
    assert cents(ask("forecast", "FY2027-Q3", DAY.isoformat(), by="source")["Field day"]["open"]) >= 42_000_000


@pytest.mark.django_db
def test_the_stage_guide_keeps_words_activities_and_files(demo, sign_in):
    client = sign_in("m1")
    StageGuide.objects.all().delete()
    guide = {"what": "guide", "text": "Ask early.", "checklist": "one\ntwo", "activities": "phone in a while"}
    assert "cannot be read. Write for example" in text(client.post(MOMENTS, guide, follow=True))
    assert not StageGuide.objects.exists()
    client.post(MOMENTS, guide | {"activities": "phone after 3 days: ask for the plan\nsite visit after 10 days"})
    assert StageGuide.objects.get().checklist == "one\ntwo"
    late = client.post(MOMENTS, guide | {"activities": "", "expected": "{}", "text": "Mine"}, follow=True)
    assert "Somebody else has changed this to" in text(late)
    assert "Mine" in text(late), "what was typed stays"
    assert StageGuide.objects.get().text == "Ask early."
    late = client.post(MOMENTS, {"what": "checks", "checks": "amount is filled", "expected": "older"}, follow=True)
    assert "to “amount is at least 1 / account is filled”" in text(late)
    client.post(MOMENTS, {"what": "file", "file": SimpleUploadedFile("plan <b>.txt", b"hello")})
    name = StageFile.objects.get().name
    answer = client.get(f"/setup/stages/new_site/ns_terms/files/{name}/")
    assert answer.content == b"hello"
    assert answer["Content-Type"] == "application/octet-stream"
    client.post(MOMENTS, {"what": "file-away", "name": name})
    assert not StageFile.objects.exists()
    assert "Choose a file" in text(client.post(MOMENTS, {"what": "file"}, follow=True))


@pytest.mark.django_db(transaction=True)
@in_a_file
def test_a_backup_is_checked_and_put_back(tmp_path, settings, client):
    from django.contrib.auth.models import User

    from wise_tally.domain.org.models import BookNumber, Person

    settings.WORK_FOLDER = tmp_path
    World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01")).read(tmp_path / "in")
    Person.objects.create(key="boss", name="Boss", role="admin", user=User.objects.create(username="boss"))
    client.force_login(User.objects.get(username="boss"))
    before = ask("forecast", "FY2027", DAY.isoformat())
    held, taken = (give_token(viewer_of(Person.objects.get(key="boss")), name, NOW) for name in ("held", "taken"))
    client.post("/setup/backups/", {"what": "make"})
    ApiToken.objects.get(name="taken").delete()
    (made,) = backup.backups_made()
    taken_out = b"".join(client.get(f"/setup/backups/{made.name}").streaming_content)
    assert taken_out == (tmp_path / "backups" / made.name).read_bytes()
    assert client.get("/setup/backups/..%2Fwise-tally.sqlite3").status_code == 404
    packed = io.BytesIO(client.get("/setup/backups/package.zip").content)
    with zipfile.ZipFile(packed) as archive:
        archive.extractall(tmp_path / "out")
    write_package(tmp_path / "same", NOW)
    tables = {path.name: path.read_bytes() for path in (tmp_path / "same").rglob("*.csv")}
    assert {path.name: path.read_bytes() for path in (tmp_path / "out").rglob("*.csv")} == tables
    DealRevision.objects.update(amount_minor=5)
    Stage.objects.filter(key="s1").update(name="changed")
    number = BookNumber.objects.get().number
    asked = client.post("/setup/backups/", {"what": "restore", "name": made.name})
    assert "Nothing was changed" not in text(asked)
    assert "Boss" in text(asked)
    assert Stage.objects.get(key="s1").name == "changed", "what would be lost is said first"
    sure = {"what": "restore", "name": made.name, "confirmed": "yes"}
    assert client.post("/setup/backups/", sure).url == "/sign-in/"
    assert "A backup was restored" in text(client.get("/sign-in/"))
    assert client.get("/forecast/").status_code == 302, "every session has ended"
    client.force_login(User.objects.get(username="boss"))
    assert person_of_token(held, NOW) is not None
    assert person_of_token(taken, NOW) is None, "what was taken away does not come back"
    assert Stage.objects.get(key="s1").name == "one"
    assert ask("forecast", "FY2027", DAY.isoformat()) == before
    assert BookNumber.objects.get().number > number
    assert len(backup.backups_made()) == 2, "what was there is kept first"
    broken = tmp_path / "backups" / "wise-tally-20200101-000000.sqlite3"
    broken.write_bytes((tmp_path / "backups" / made.name).read_bytes()[:5000] + b"x" * 5000)
    for name in (broken.name, "../x", made.name + "x"):
        refused = client.post("/setup/backups/", {**sure, "name": name})
        assert refused.status_code == 409
        assert "Choose" in text(refused)


@pytest.mark.django_db
@in_a_file
def test_a_database_busy_with_an_import_says_so(demo, sign_in, monkeypatch):
    """A write that waited too long for the lock is told so, not shown as a fault of the application."""
    from django.db import OperationalError

    def locked(*_):
        raise OperationalError("database is locked")

    monkeypatch.setattr("wise_tally.pages.setup.stages.stage_page.set_retired", locked)
    answer = sign_in("m1").post("/setup/stages/new_site/retire/", {"stage": "ns_plan", "what": "retire"})
    assert answer.status_code == 503
    assert "your change was not saved" in text(answer)
