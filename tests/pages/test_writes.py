"""While something large is written: readers are answered, who writes is told soon, and nothing typed is lost."""

import threading
import time
from io import BytesIO

import pytest
from django.contrib.auth.models import User
from django.core.handlers.wsgi import WSGIRequest
from django.http import HttpResponse
from django.test import Client, RequestFactory

from tests.support.answers import text
from tests.support.kept_rows import be_impatient, somebody_else_writing
from tests.support.world import World
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.models import Person
from wise_tally.web.request import sessions, writes

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
