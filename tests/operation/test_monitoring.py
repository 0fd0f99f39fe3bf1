"""What a watcher is told, and what `./tally doctor` finds, each fault made for real."""

import os
import shutil
import socket
from collections import namedtuple
from contextlib import closing

import pytest
from django.db import connection
from prometheus_client.parser import text_string_to_metric_families

from tests.support.world import World
from wise_tally.domain.org.models import BookNumber
from wise_tally.operation import examination
from wise_tally.operation.examination import DOUBTFUL, GOOD, WRONG, examined, port_to_serve

pytestmark = pytest.mark.django_db
Usage = namedtuple("Usage", "total used free")


def counted(client, **headers):
    """Values by name and labels, by the text format's own reader."""
    answer = client.get("/metrics", **headers)
    assert answer.status_code == 200
    families = text_string_to_metric_families(answer.content.decode())
    return {(one.name, *sorted(one.labels.items())): one.value for family in families for one in family.samples}


def test_the_process_answers_without_a_database_and_is_ready_with_one(client, monkeypatch, django_assert_num_queries):
    with django_assert_num_queries(0):
        assert client.get("/health/", HTTP_HOST="any.example").content == b"ok\n"
    assert client.get("/ready/").json() == {"ready": True}
    monkeypatch.setattr(shutil, "disk_usage", lambda path: Usage(10, 10, 1_000_000))
    full = client.get("/ready/")
    assert (full.status_code, full.json()) == (503, {"ready": False, "disk": "1 MB are free; make room."})
    with connection.cursor() as cursor:
        cursor.execute("ALTER TABLE org_booknumber RENAME TO away")
    assert client.get("/ready/").json()["database"] == "The database does not answer."


def test_requests_are_counted_by_page_and_shown_to_this_machine_or_by_token(demo, sign_in, client, settings):
    boss = sign_in("m1")
    labels = (("method", "GET"), ("page", "forecast:page"), ("status", "200"))
    key, times = ("wise_tally_requests_total", *labels), ("wise_tally_request_seconds_count", ("page", "forecast:page"))
    before = counted(client)
    for _ in range(3):
        boss.get("/forecast/")
    boss.get("/forecast/?period=nonsense")
    after = counted(client)
    assert after[key] - before.get(key, 0) == 3
    assert after[times] - before.get(times, 0) == 4
    assert after[("wise_tally_book_number",)] == BookNumber.objects.get().number
    assert after[("wise_tally_resident_bytes",)] > 10_000_000
    waits = ("wise_tally_write_wait_seconds_count",)
    boss.post("/pins/", {})
    assert counted(client)[waits] == after[waits] + 1
    outside = {"REMOTE_ADDR": "203.0.113.7"}
    assert client.get("/metrics", **outside).status_code == 403
    assert client.get("/metrics", HTTP_X_FORWARDED_FOR="203.0.113.7").status_code == 403, "by a proxy that is not named"
    assert client.get("/metrics", HTTP_AUTHORIZATION="Bearer ", **outside).status_code == 403
    settings.METRICS_TOKEN = "long and secret"
    assert client.get("/metrics", HTTP_AUTHORIZATION="Bearer long", **outside).status_code == 403
    assert counted(client, HTTP_AUTHORIZATION="Bearer long and secret", **outside)


@pytest.fixture
def served(tmp_path, settings, monkeypatch):
    """An installation as the documents have it: TLS by a proxy, backups on another disk, the database of the test."""
    settings.DATABASE_FILE, settings.WORK_FOLDER = tmp_path / "w.sqlite3", tmp_path
    settings.BACKUP_FOLDER = str(tmp_path / "elsewhere")
    settings.SECRET_KEY, settings.DEMO, settings.SECURE = "k" * 50, False, True
    settings.SECURE_PROXY_SSL_HEADER, settings.TRUSTED_PROXIES = ("HTTP_X_FORWARDED_PROTO", "https"), ["127.0.0.1"]
    settings.ALLOWED_HOSTS, settings.SITE_ADDRESS = ["tally.example"], "https://tally.example"
    monkeypatch.setenv("WISE_TALLY_SECRET_KEY", "k" * 50)
    monkeypatch.delenv("WISE_TALLY_TODAY")
    return settings


def states(about, state):
    return " ".join(one.words for one in examined() if (one.about, one.state) == (about, state))


def test_nothing_is_wrong_with_what_is_set_as_the_documents_say(served):
    assert [one for one in examined() if one.state == WRONG] == []
    assert states("database", GOOD).startswith("none yet")


def test_a_port_in_use_is_told(monkeypatch):
    with closing(socket.socket()) as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        monkeypatch.setenv("WISE_TALLY_PORT", str(taken.getsockname()[1]))
        assert "in use by another program" in port_to_serve().words
    assert port_to_serve().state == GOOD
    monkeypatch.setenv("WISE_TALLY_BIND", "203.0.113.7")
    assert "cannot be served" in port_to_serve().words


@pytest.mark.django_db(transaction=True)
def test_the_doctor_names_what_an_operator_got_wrong(served, tmp_path, monkeypatch):
    World().read(tmp_path / "in")
    wrong = {
        "secret key": lambda: setattr(served, "SECRET_KEY", "short"),
        "disk": lambda: monkeypatch.setattr(shutil, "disk_usage", lambda path: Usage(10, 10, 5_000_000)),
        "addresses": lambda: setattr(served, "SECURE_PROXY_SSL_HEADER", None),
        "clock": lambda: monkeypatch.setenv("WISE_TALLY_TODAY", "2026-11-23"),
    }
    for about, spoil in wrong.items():
        assert not states(about, WRONG), about
        spoil()
        assert states(about, WRONG), about
    served.EMAIL_URL, served.EMAIL_HOST, served.EMAIL_PORT = "smtp://127.0.0.1:1", "127.0.0.1", 1
    assert "does not answer" in states("mail", WRONG)
    served.SITE_ADDRESS, served.TRUSTED_PROXIES = "https://other.example", []
    assert "other.example" in states("addresses", DOUBTFUL)
    assert "WISE_TALLY_PROXIES" in states("addresses", DOUBTFUL)
    (tmp_path / "w.sqlite3").write_text("no database" * 900)
    assert "damaged or no database" in states("database", WRONG)
    assert "There is none" in states("backups", DOUBTFUL)
    monkeypatch.setattr(os, "access", lambda path, mode: False)
    assert "may not write" in states("database", WRONG)
    monkeypatch.setattr(examination, "_file_system", lambda path: "nfs4")
    monkeypatch.setattr(os, "access", lambda path, mode: True)
    assert "another machine" in states("database", WRONG)
