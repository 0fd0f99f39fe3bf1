"""Backups and what puts them back: nothing accepted is lost, other versions, damage, the files beside the database."""

import os
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from contextlib import closing
from datetime import timedelta
from pathlib import Path

import pytest
from django.conf import settings as present_settings
from django.core.management import call_command
from django.db import OperationalError, connection

from tests.conftest import NOW
from tests.support.world import World
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import AuditEntry, Territory
from wise_tally.domain.storage_faults import DatabaseDamaged, words_of
from wise_tally.operation import backup, restoring
from wise_tally.operation.backup import BackupRefused, backups_made, folder, make_backup, prune, too_old
from wise_tally.operation.restoring import losses, restore_backup

ADMIN = Viewer("boss", "Boss", "admin", ())
OTHER = Viewer("eve", "Eve", "admin", ())
pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def world(tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01")).read(tmp_path / "in")


def path_of(made):
    return folder() / made.name


def accepted_in(path):
    with closing(sqlite3.connect(path)) as copy:
        return {row[0] for row in copy.execute("SELECT key FROM org_territory WHERE key LIKE 'w%'")}


def test_every_accepted_write_is_in_the_copy_that_was_kept_or_in_what_is_there(world):
    """Four write as fast as they can while a backup is put back, twice."""
    made, accepted, ends = path_of(make_backup(NOW)), [], threading.Event()

    def write(who):
        number = 0
        while not ends.is_set():
            key = f"w{who}-{number}"
            try:
                Territory.objects.create(key=key, name=key)
                accepted.append(key)
            except OperationalError:
                time.sleep(0.01)
            number += 1
        connection.close()

    writers = [threading.Thread(target=write, args=(who,)) for who in range(4)]
    for one in writers:
        one.start()
    kept = []
    for _ in range(2):
        time.sleep(0.3)
        kept.append(path_of(restore_backup(ADMIN, made, NOW)))
    time.sleep(0.1)
    ends.set()
    for one in writers:
        one.join()
    there = set(Territory.objects.filter(key__startswith="w").values_list("key", flat=True))
    copies = [accepted_in(path) for path in kept]
    assert all(copies), "something was written before each"
    assert set(accepted) - there - set.union(*copies) == set()
    assert not there & copies[1], "what was kept aside is not there any more"


def test_what_would_be_lost_is_counted_by_person(world, tmp_path):
    made = path_of(make_backup(NOW))
    assert losses(made).changes == 0
    for who in (ADMIN, OTHER, OTHER):
        audit(who, "stage set", "x", NOW + timedelta(hours=1))
    lost = losses(made)
    assert (lost.changes, lost.people, lost.same_history) == (3, (("Eve (eve)", 2), ("Boss (boss)", 1)), True)
    assert lost.last_at == NOW + timedelta(hours=1)
    later = path_of(make_backup(NOW))
    AuditEntry.objects.all().delete()
    audit(ADMIN, "another", "history", NOW + timedelta(hours=2))
    assert not losses(later).same_history
    (tmp_path / "text").write_text("no database at all, however long it is")
    with pytest.raises(BackupRefused, match="not a complete database"):
        losses(tmp_path / "text")


def test_files_of_imports_go_with_the_backup_and_come_back(world, tmp_path, monkeypatch):
    monkeypatch.setenv("WISE_TALLY_SECRET_KEY", "not for a backup")
    monkeypatch.setenv("WISE_TALLY_HOSTS", "tally.example")
    run = tmp_path / "imports" / "3"
    run.mkdir(parents=True)
    (run / "journal-1.gz").write_bytes(os.urandom(500))
    (run / "source").write_bytes(b"a;b\n" * 900)
    (run / "running").write_bytes(b"")
    before = {name: (run / name).read_bytes() for name in ("journal-1.gz", "source")}
    made = path_of(make_backup(NOW))
    with closing(sqlite3.connect(made)) as copy:
        names = {row[0] for row in copy.execute("SELECT name FROM sqlar")}
        assert names == {"imports/3/journal-1.gz", "imports/3/source", "settings.json"}
        copy.execute("INSERT INTO sqlar VALUES ('imports/../../stolen', 0, 0, 1, 'x')")
        copy.commit()
        assert b"not for a backup" not in made.read_bytes()
    shutil.rmtree(run)
    restore_backup(ADMIN, made, NOW)
    assert {path.name: path.read_bytes() for path in run.iterdir()} == before
    assert not (tmp_path.parent / "stolen").exists()
    assert not list(tmp_path.glob("restoring-*")), "what was prepared is taken away"
    with connection.cursor() as cursor:
        assert "sqlar" not in connection.introspection.table_names(cursor)
        cursor.execute("PRAGMA foreign_key_check")
        assert cursor.fetchall() == []
        cursor.execute("PRAGMA foreign_keys")
        assert cursor.fetchone() == (1,)


def test_of_nightly_ones_the_newest_stay_and_unfinished_ones_go(world, monkeypatch):
    asked = make_backup(NOW)
    for day in range(5):
        made = make_backup(NOW + timedelta(days=day), backup.NIGHTLY)
        moment = (NOW + timedelta(days=day)).timestamp()
        os.utime(path_of(made), (moment, moment))
    left = folder() / "wise-tally-20200101-000000.9.new"
    left.write_bytes(b"half")
    os.utime(left, (0, 0))
    assert len(prune(2)) == 3
    kept = [one.name for one in backups_made()]
    assert asked.name in kept
    assert sum("nightly" in name for name in kept) == 2
    assert "20261127" in "".join(kept)
    make_backup(NOW)
    assert not left.exists()
    assert not too_old()
    for one in backups_made():
        os.utime(path_of(one), (time.time() - 3 * 86_400,) * 2)
    assert too_old()

    def refused(path):
        raise BackupRefused("as it is")

    monkeypatch.setattr(backup, "check", refused)
    number = len(backups_made())
    with pytest.raises(DatabaseDamaged, match="The database itself is damaged"):
        make_backup(NOW)
    assert len(list(folder().iterdir())) == number, "nothing half is left"


def test_an_older_backup_is_brought_up_to_date_and_a_newer_one_refused(world, tmp_path):
    made = path_of(make_backup(NOW))
    older = folder() / "wise-tally-20250101-000000.sqlite3"
    shutil.copyfile(made, older)
    back = [sys.executable, "-m", "wise_tally", "migrate", "org", "0014", "--verbosity", "0"]
    subprocess.run(back, env={**os.environ, "WISE_TALLY_DATABASE": str(older)}, check=True)
    newer, lacking = restoring.unknown_migrations(older)
    assert not newer
    assert lacking
    (tmp_path / "own").mkdir()
    served = tmp_path / "own" / "w.sqlite3"
    shutil.copyfile(older, served)
    upgrade = [sys.executable, "-m", "wise_tally", "upgrade"]
    environment = {**os.environ, "WISE_TALLY_DATABASE": str(served)}
    told = subprocess.run(upgrade, env=environment, check=True, capture_output=True, text=True).stdout
    (before,) = (tmp_path / "own" / "backups").iterdir()
    assert before.name.endswith("-upgrade.sqlite3")
    assert told.splitlines()[0] == f"Backup before the upgrade: {before.name}"
    assert restoring.unknown_migrations(before) == (set(), lacking)
    assert restoring.unknown_migrations(served) == (set(), set())
    Territory.objects.filter(key="x").update(name="changed")
    restore_backup(ADMIN, older, NOW)
    assert Territory.objects.get(key="x").name != "changed"
    assert restoring.unknown_migrations(Path(connection.settings_dict["NAME"])) == (set(), set())
    with closing(sqlite3.connect(made)) as copy:
        copy.execute("INSERT INTO django_migrations (app, name, applied) VALUES ('org', '9999_later', '2030-01-01')")
        copy.commit()
    with pytest.raises(BackupRefused, match="newer version"):
        restore_backup(ADMIN, made, NOW)
    assert Territory.objects.get(key="x").name != "changed"


def test_a_damaged_database_is_replaced_and_kept_beside(tmp_path):
    """In processes of their own, as an operator does it."""

    def tally(*words):
        environment = {**os.environ, "WISE_TALLY_DATABASE": str(tmp_path / "w.sqlite3")}
        environment.pop("WISE_TALLY_TODAY", None)
        command = [sys.executable, "-m", "wise_tally", *words]
        done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
        assert "Traceback" not in done.stderr, done.stderr
        return done.returncode, done.stdout + done.stderr

    assert tally("upgrade") == (0, f"Made a new database: {tmp_path / 'w.sqlite3'}\n")
    assert tally("upgrade") == (0, "")
    assert tally("backup", "--nightly")[0] == 0
    (made,) = (tmp_path / "backups").iterdir()
    with (tmp_path / "w.sqlite3").open("r+b") as file:
        file.seek(4096 * 3)
        file.write(os.urandom(4096 * 40))
    status, told = tally("backup")
    assert (status, "damaged" in told, told.count("\n")) == (1, True, 1)
    assert "damaged" in tally("doctor", "--serious")[1]
    assert tally("restore", made.name)[0] == 2, "it asks first"
    status, told = tally("restore", made.name, "--yes")
    assert (status, "kept beside" in told) == (0, True)
    assert list(tmp_path.glob("w.sqlite3.damaged-*"))
    assert "is whole and of this version" in tally("doctor")[1]
    with closing(sqlite3.connect(tmp_path / "w.sqlite3")) as now:
        now.execute("INSERT INTO django_migrations (app, name, applied) VALUES ('org', '9999_later', '2030-01-01')")
        now.commit()
    status, told = tally("upgrade")
    assert (status, "newer version" in told) == (2, True)


def test_faults_of_the_machine_are_told_in_words(tmp_path):
    """By errors of a real database and a real disk; source of the codes: https://sqlite.org/rescode.html"""

    def error_of(prepare, write="INSERT INTO t VALUES (zeroblob(100000))"):
        with closing(sqlite3.connect(tmp_path / "one.sqlite3")) as one:
            one.execute("CREATE TABLE IF NOT EXISTS t (x)")
            one.execute(prepare)
            with pytest.raises(sqlite3.Error) as raised:
                one.execute(write)
        return words_of(raised.value)

    assert "disk is full" in error_of("PRAGMA max_page_count = 3")
    assert "read-only" in error_of("PRAGMA query_only = 1")
    (tmp_path / "text").write_text("this is no database" * 100)
    with closing(sqlite3.connect(tmp_path / "text")) as one, pytest.raises(sqlite3.Error) as raised:
        one.execute("SELECT 1 FROM t")
    assert "damaged or no database" in words_of(raised.value)
    with pytest.raises(OSError, match="No space") as full, Path("/dev/full").open("wb", buffering=0) as file:
        file.write(b"x")
    assert "disk is full" in words_of(full.value)
    assert words_of(ValueError("of ours")) is None
    assert str(present_settings.DATABASE_FILE) in error_of("PRAGMA query_only = 1")


def test_tidying_counts_no_session_that_is_in_use(world, client, tmp_path, settings):
    """Sessions stand in files; those that ran out are taken away by the nightly tidying."""
    settings.SESSION_FILE_PATH = tmp_path / "sessions"
    session = client.session
    session["x"] = 1
    session.save()
    (path,) = (tmp_path / "sessions").iterdir()
    call_command("tidy")
    assert path.exists()
    os.utime(path, (0, 0))
    call_command("tidy")
    assert not path.exists()
