"""Fixtures: an empty book for each test, the demo read once a session, clients by role."""

import atexit
import os
import shutil
import sqlite3
import tempfile
from datetime import UTC, date, datetime
from zlib import crc32

import pytest
from django.db import transaction
from django.db.backends.signals import connection_created
from django.dispatch import receiver

# Of this user and this copy of the project: two copies tested at once do not meet.
PLACE = f"wise-tally-tests-{os.getuid()}-{crc32(os.path.dirname(__file__).encode()):08x}"
os.environ.setdefault("WISE_TALLY_DATABASE", os.path.join(tempfile.gettempdir(), PLACE, "unused.sqlite3"))
TODAY = date(2026, 11, 23)
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@pytest.fixture(autouse=True)
def _fixed_day(monkeypatch):
    monkeypatch.setenv("WISE_TALLY_TODAY", TODAY.isoformat())


@pytest.fixture(autouse=True)
def _fresh_shelf():
    """Each test has its own database state, so no book may be left from the one before."""
    from wise_tally.shelf.book import shelf

    shelf.forget()
    yield
    shelf.forget()


MADE = {}
KEPT_STATE = set()
KEPT = os.path.join(tempfile.mkdtemp(), "demo.sqlite3")
atexit.register(shutil.rmtree, os.path.dirname(KEPT), ignore_errors=True)


@receiver(connection_created)
def _beside(connection, **named):
    """The demo's rows stand in a file beside every connection, so that they are put back without leaving SQLite."""
    connection.connection.execute("ATTACH DATABASE ? AS kept", (KEPT,))


@pytest.hookimpl(trylast=True)
def pytest_runtest_logfinish():
    """Write the file between two tests, when no transaction holds it."""
    if not MADE or "written" in KEPT_STATE:
        return
    KEPT_STATE.add("written")
    with sqlite3.connect(KEPT) as kept:
        for name, (width, rows) in MADE.items():
            kept.execute(f"CREATE TABLE {name} ({', '.join(f'c{place}' for place in range(width))})")
            kept.executemany(f"INSERT INTO {name} VALUES ({', '.join(['?'] * width)})", rows)
    kept.close()


def put_demo():
    """The demo workspace of a fixed day, its people able to sign in: built once, its rows put back after that."""
    from django.db import connection

    from wise_tally.exchange.demo.build import build_demo

    names = [n for n in connection.introspection.table_names() if not n.startswith(("django_", "auth_perm"))]
    with connection.cursor() as cursor:
        if not MADE:
            build_demo(TODAY, NOW)
            for name in names:
                cursor.execute(f"SELECT * FROM {name}")
                MADE[name] = (len(cursor.description), cursor.fetchall())
            return
        with transaction.atomic():
            cursor.execute("PRAGMA defer_foreign_keys = ON")
            for name in MADE:
                cursor.execute(f"DELETE FROM main.{name}")
                cursor.execute(f"INSERT INTO main.{name} SELECT * FROM kept.{name}")


@pytest.fixture
def demo(db):
    """The demo workspace."""
    put_demo()


@pytest.fixture
def sign_in(client):
    """Sign a person in by identifier and return the client; `apart` gives a browser of their own."""
    from django.contrib.auth.models import User
    from django.test import Client

    def as_person(key, apart=False):
        browser = Client() if apart else client
        browser.force_login(User.objects.get(username=key))
        return browser

    return as_person
