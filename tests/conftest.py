"""Fixtures: an empty book for each test, the demo read once a session, clients by role."""

import os
import tempfile
from datetime import UTC, date, datetime
from zlib import crc32

import hypothesis
import pytest
from django.contrib.contenttypes.management import create_contenttypes
from django.db import transaction
from django.db.backends.signals import connection_created
from django.db.models.signals import post_migrate
from django.dispatch import receiver

from tests.support import kept_rows

# Of this user and this copy of the project: two copies tested at once do not meet.
PLACE = f"wise-tally-tests-{os.getuid()}-{crc32(os.path.dirname(__file__).encode()):08x}"
os.environ.setdefault("WISE_TALLY_DATABASE", os.path.join(tempfile.gettempdir(), PLACE, "unused.sqlite3"))
# A busy machine is no fault of an example.
hypothesis.settings.register_profile("wise_tally", deadline=None)
hypothesis.settings.load_profile("wise_tally")
TODAY = date(2026, 11, 23)
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@pytest.fixture(autouse=True)
def _fixed_day(monkeypatch):
    monkeypatch.setenv("WISE_TALLY_TODAY", TODAY.isoformat())


@pytest.fixture(autouse=True)
def _fresh_book():
    """Each test has its own database state, so no book may be left from the one before."""
    from wise_tally.book.store import books

    books.forget()
    yield
    books.forget()


MADE = {}
KEPT_STATE = set()


@receiver(connection_created)
def _attached(connection, **named):
    kept_rows.attach(connection)


@pytest.hookimpl(trylast=True)
def pytest_runtest_logfinish():
    """Keep the demo's rows between two tests, when no transaction holds the database."""
    if not MADE or "written" in KEPT_STATE:
        return
    KEPT_STATE.add("written")
    with BETWEEN["unblocked"]():
        kept_rows.write(MADE)


# What the database holds between two tests, and what lets it be changed there; set once it is made.
BETWEEN = {"holds": "nothing", "unblocked": None}


@pytest.fixture(scope="session")
def django_db_setup(django_db_setup, django_db_blocker):
    """The database of the session; from now on rows can be put into it between two tests.

    What Django writes after a migration is nowhere used, and would be written after every emptying.
    """
    post_migrate.disconnect(create_contenttypes)
    post_migrate.disconnect(dispatch_uid="django.contrib.auth.management.create_permissions")
    BETWEEN["unblocked"] = django_db_blocker.unblock


# Begun first, so that no process works on one of them alone in the end.
LONGEST = ("test_screens", "test_workings", "test_permissions", "test_list", "test_journey")


def pytest_collection_modifyitems(items):
    """The longest files first; in each those without the demo, so that it is put into the database once a file."""
    files = list(dict.fromkeys(item.path for item in items))
    files.sort(key=lambda path: LONGEST.index(path.stem) if path.stem in LONGEST else len(LONGEST))
    items.sort(key=lambda item: (files.index(item.path), "demo" in item.fixturenames))


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item):
    """Before a test's own transaction begins the database holds the demo or nothing, as the test asks."""
    if BETWEEN["unblocked"] is None or "written" not in KEPT_STATE:
        return
    marker = item.get_closest_marker("django_db")
    alone = (marker and marker.kwargs.get("transaction")) or "transactional_db" in item.fixturenames
    wanted = "demo" if "demo" in item.fixturenames and not alone else "nothing"
    if BETWEEN["holds"] != wanted:
        with BETWEEN["unblocked"]():
            _replace_rows(with_demo=wanted == "demo")
        BETWEEN["holds"] = wanted


def _replace_rows(with_demo):
    with transaction.atomic():
        kept_rows.replace(MADE, with_demo)


def put_demo():
    """The demo workspace of a fixed day, its people able to sign in: built once, its rows put back after that."""
    from django.db import connection

    from wise_tally.demo.build import build_demo

    if MADE:
        _replace_rows(with_demo=True)
        return
    build_demo(TODAY, NOW)
    names = [n for n in connection.introspection.table_names() if not n.startswith(("django_", "auth_perm"))]
    with connection.cursor() as cursor:
        for name in names:
            cursor.execute(f"SELECT * FROM {name}")
            MADE[name] = (len(cursor.description), cursor.fetchall())


# The demo's book as first read, with all that was derived from it since: it never changes, what a test changes grows from it.
AS_READ = []


def open_book():
    """The book of the demo that the database holds."""
    from wise_tally.book.store import books

    if not AS_READ:
        AS_READ.append(books.stored())
    books._current = AS_READ[0]


@pytest.fixture
def demo(db, _fresh_book):
    """The demo workspace, and its book."""
    if BETWEEN["holds"] != "demo":
        put_demo()
    open_book()


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
