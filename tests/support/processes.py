"""Programs of their own on a database of their own: a file, and where the tests run on PostgreSQL a new database there."""

import os
import subprocess
import sys

import pytest

SERVER = os.environ.get("WISE_TALLY_DATABASE_URL", "")
in_a_file = pytest.mark.skipif(bool(SERVER), reason="backups and the like are of files")
on_a_server = pytest.mark.skipif(not SERVER, reason="there is no PostgreSQL; ./tally test --postgres has one")


def environment(place):
    """What a program is started with; `place` is a file or the address of a server."""
    names = {"WISE_TALLY_DATABASE_URL": place} if "://" in str(place) else {"WISE_TALLY_DATABASE": str(place)}
    settings = {"DJANGO_SETTINGS_MODULE": "wise_tally.config.settings.demo", "WISE_TALLY_DATABASE_URL": ""}
    return os.environ | settings | names


def manage(place, *words):
    """What a command prints."""
    command = [sys.executable, "manage.py", *words]
    done = subprocess.run(command, check=False, env=environment(place), capture_output=True, text=True)
    assert done.returncode in (0, 2), done.stderr
    return done.stdout + done.stderr


@pytest.fixture
def server():
    """The address of an empty database of the PostgreSQL that the tests run on."""
    name, options = f"own_{os.getpid()}", SERVER.partition("?")[2]
    subprocess.run(["psql", SERVER, "-qc", f"CREATE DATABASE {name} TEMPLATE template0"], check=True)
    yield f"postgresql://postgres@/{name}?{options}"
    subprocess.run(["psql", SERVER, "-qc", f"DROP DATABASE {name} WITH (FORCE)"], check=True)
