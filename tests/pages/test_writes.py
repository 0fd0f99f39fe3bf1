"""While something large is written: readers are answered, who writes is told soon, and nothing typed is lost."""

import threading
import time
from datetime import timedelta
from io import BytesIO

import pytest
from django.contrib.auth.models import User
from django.core.handlers.wsgi import WSGIRequest
from django.core.management import call_command
from django.db import connection
from django.http import HttpResponse
from django.test import Client, RequestFactory

from tests.support.answers import text
from tests.support.kept_rows import be_impatient, somebody_else_writing
from tests.support.world import World
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person, SentForm
from wise_tally.web.request import sent_once, sessions, writes

HERE = {"HTTP_REFERER": "http://testserver/deals/d/", "HTTP_SEC_FETCH_MODE": "navigate"}


@pytest.fixture
def boss(tmp_path):
    World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01")).read(tmp_path / "in")
    user = User.objects.create(username="boss")
    Person.objects.create(key="boss", name="Boss", role="admin", user=user)
    client = Client()
    client.force_login(user)
    return client


@pytest.mark.django_db(transaction=True)
def test_readers_do_not_wait_and_what_was_typed_is_kept(boss, monkeypatch):
    assert boss.get("/forecast/").status_code == 200
    be_impatient()
    # The reader was away for a while, so that the session has something to note.
    monkeypatch.setattr(sessions, "SELDOM", -1)
    deal = Deal.objects.get()
    state = {"stage": "s1", "amount": "77.50", "expected_close": "2026-12-24", "category": "", "next": "/deals/"}
    state["revision"] = DealRevision.objects.get().pk
    with somebody_else_writing():
        for page in ("/forecast/", "/deals/", "/deals/d/", "/brief/", "/setup/"):
            assert boss.get(page).status_code == 200, page
        refused = boss.post("/deals/d/change/", state, **HERE)
        assert (refused.status_code, refused["Retry-After"]) == (503, "5")
        assert "77.50" in text(refused)
        assert "Save again" in text(refused)
        in_place = boss.post("/deals/d/change/", state | {"edited": "amount"}, HTTP_SEC_FETCH_MODE="cors")
        assert (in_place.status_code, in_place["Retry-After"]) == (503, "5")
    fields = dict(refused.context["kept"]["fields"])
    assert boss.post(refused.context["kept"]["path"], fields).status_code == 302
    assert DealRevision.objects.filter(deal=deal).order_by("pk").last().amount_minor == 7_750


def test_who_sends_slowly_keeps_nobody_from_writing(monkeypatch):
    monkeypatch.setattr(writes, "PATIENCE", 0.2)
    monkeypatch.setattr(writes, "busy", lambda request: HttpResponse(status=503))
    sent, asked, factory = threading.Event(), threading.Event(), RequestFactory()

    class Slow(BytesIO):
        def read(self, *size):
            asked.set()
            sent.wait(5)
            return super().read(*size)

    gate, answers = writes.WritesInTurn(lambda request: HttpResponse(request.POST.get("a", ""))), []
    slow = factory.post("/", "a=1", content_type="application/x-www-form-urlencoded")
    slow.environ["wsgi.input"] = Slow(b"a=1")
    slow = WSGIRequest(slow.environ)
    first = threading.Thread(target=lambda: answers.append(gate(slow).content))
    first.start()
    asked.wait(5)
    assert gate(factory.post("/", {"a": "2"})).content == b"2"
    sent.set()
    first.join()
    assert answers == [b"1"]


def test_one_write_at_a_time_and_the_next_waits_shortly(monkeypatch):
    monkeypatch.setattr(writes, "PATIENCE", 0.2)
    monkeypatch.setattr(writes, "busy", lambda request: HttpResponse(status=503))
    held, begun, most = threading.Event(), [], []

    def answer(request):
        if request.method == "POST":
            begun.append(request)
            most.append(len(begun))
            held.wait(5)
            begun.pop()
        return HttpResponse()

    gate, factory, answers = writes.WritesInTurn(answer), RequestFactory(), []
    threads = [threading.Thread(target=lambda: answers.append(gate(factory.post("/")).status_code)) for _ in range(4)]
    for one in threads:
        one.start()
    started = time.monotonic()
    while len(answers) < 3 and time.monotonic() < started + 5:
        time.sleep(0.01)
    assert answers == [503] * 3
    assert gate(factory.get("/")).status_code == 200, "who reads has no turn to wait for"
    held.set()
    for one in threads:
        one.join()
    assert answers[3:] == [200]
    assert max(most) == 1
    assert gate(factory.post("/")).status_code == 200, "the turn is given back"


NEW = {"name": "Twice", "account": "Mill", "is_new": "on", "stage": "s1", "amount": "5", "expected_close": "2026-12-01"}
NEW |= {"owner": "boss", "deal_type": "", "source": "", "next_step": "", "next_step_on": "", "next": "/deals/"}


@pytest.mark.django_db(transaction=True)
def test_a_form_sent_twice_is_done_once(boss):
    """At once, as by a double click, and again later; the same form drawn anew is another one, and a refused one may be mended."""
    both, form = threading.Barrier(2), NEW | {"csrfmiddlewaretoken": "drawn first"}
    led_to = []

    def send():
        client = Client()
        client.force_login(User.objects.get())
        both.wait(5)
        led_to.append(client.post("/deals/new-deal/", form).headers.get("Location"))
        connection.close()

    threads = [threading.Thread(target=send) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    led_to.append(boss.post("/deals/new-deal/", form).headers.get("Location"))
    assert led_to == ["/deals/twice/"] * 3
    assert Deal.objects.filter(name="Twice").count() == 1
    known = NEW | {"is_new": "", "csrfmiddlewaretoken": "drawn anew"}
    assert boss.post("/deals/new-deal/", known)["Location"] == "/deals/twice_2/"
    for amount in ("much", "much", "6"):
        answer = boss.post("/deals/new-deal/", known | {"amount": amount})
    assert (answer.status_code, Deal.objects.filter(name="Twice").count()) == (302, 3)


@pytest.mark.django_db(transaction=True)
def test_a_form_that_another_process_is_doing_is_waited_for(boss, monkeypatch):
    """Until it leads somewhere, or shortly; where the other process ended in the middle, the form drawn anew does it."""
    form = NEW | {"csrfmiddlewaretoken": "drawn"}
    answers = iter(["", "/deals/other/"])
    with monkeypatch.context() as another:
        another.setattr(sent_once, "PATIENCE", 0.3)
        another.setattr(sent_once, "begin_form", lambda mark, now: False)
        assert boss.post("/deals/new-deal/", form, **HERE).status_code == 503
        another.setattr(sent_once, "form_led_to", lambda mark: next(answers))
        assert boss.post("/deals/new-deal/", form)["Location"] == "/deals/other/"
    assert not Deal.objects.filter(name="Twice").exists()
    assert boss.post("/deals/new-deal/", form)["Location"] == "/deals/twice/"
    call_command("tidy")
    assert SentForm.objects.count() == 1
    SentForm.objects.update(sent_at=now() - timedelta(days=2))
    call_command("tidy")
    assert not SentForm.objects.exists()
