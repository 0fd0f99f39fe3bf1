"""Putting a backup back: what would be lost is known first, and no accepted write is in neither copy."""

import shutil
import sqlite3
import tempfile
import time
import zlib
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.db import connection, transaction
from django.db.migrations.loader import MigrationLoader

from wise_tally.book.store import books
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import another_database, present_number
from wise_tally.domain.org.models import ApiToken, AuditEntry, BookNumber
from wise_tally.domain.org.sign_in_actions import RESTORED
from wise_tally.operation.backup import Backup, BackupRefused, check, make_backup, require_file
from wise_tally.operation.own_process import migrate_other
from wise_tally.web.request.sessions import end_every

MOST_PEOPLE = 8


@dataclass(frozen=True)
class Losses:
    """What the present data has and a backup has not: changes since, by whom; `same_history`: whether it was made of this data."""

    changes: int
    people: tuple[tuple[str, int], ...]
    last_at: datetime | None
    same_history: bool


def losses(path: Path) -> Losses:
    """Raises BackupRefused for what is no backup. Both databases list their changes in the audit."""
    check(path)
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as copy:
        last = copy.execute("SELECT id, at FROM org_auditentry ORDER BY id DESC LIMIT 1").fetchone() or (0, None)
    there = AuditEntry.objects.filter(pk=last[0]).values_list("at", flat=True).first()
    same = last[0] == 0 or (there is not None and _plain(there) == _plain(last[1]))
    since = AuditEntry.objects.filter(pk__gt=last[0]) if same else AuditEntry.objects.all()
    counted: dict[str, int] = {}
    for who in since.values_list("who", flat=True):
        counted[who or "the server"] = counted.get(who or "the server", 0) + 1
    people = sorted(counted.items(), key=lambda one: (-one[1], one[0]))
    newest = since.order_by("-pk").values_list("at", flat=True).first()
    return Losses(sum(counted.values()), tuple(people[:MOST_PEOPLE]), newest, same)


def _plain(moment: object) -> int:
    return int(moment.timestamp()) if isinstance(moment, datetime) else int(str(moment))


def restore_backup(viewer: Viewer, path: Path, now: datetime) -> Backup:
    """Put a backup back; what was there is kept as a new backup first. From that copy on nobody else writes until the end.

    Raises BackupRefused for one that is damaged or of a newer version; an older one is brought up to date.
    """
    viewer.require(May.SET_ORGANISATION)
    require_file()
    with prepared(path) as fresh:
        with connection.cursor() as cursor:
            cursor.execute("ATTACH DATABASE %s AS restored", [str(fresh)])
        connection.disable_constraint_checking()
        try:
            with transaction.atomic():
                before = _replace(viewer, path.name, now)
        finally:
            connection.enable_constraint_checking()
            with connection.cursor() as cursor:
                cursor.execute("DETACH DATABASE restored")
        _put_files_back(fresh)
    books.forget()
    return before


def _replace(viewer: Viewer, name: str, now: datetime) -> Backup:
    """Within one write: keep what is there, then take all rows from the attached copy."""
    before, number = make_backup(now), present_number()
    tokens = set(ApiToken.objects.values_list("digest", flat=True))
    with connection.cursor() as cursor:
        cursor.execute("SELECT name FROM main.sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
        tables = [row[0] for row in cursor.fetchall()]
        for table in [*tables, "sqlite_sequence"]:
            cursor.execute(f'DELETE FROM main."{table}"')
            cursor.execute(f"SELECT name FROM pragma_table_info('{table}')")
            columns = ", ".join(f'"{row[0]}"' for row in cursor.fetchall())
            cursor.execute(f'INSERT INTO main."{table}" ({columns}) SELECT {columns} FROM restored."{table}"')
    another_database(number)
    end_every(tokens)
    audit(viewer, RESTORED, name, now, before=before.name)
    return before


@contextmanager
def prepared(path: Path) -> Iterator[Path]:
    """A copy of a backup beside the database, whole and of this version. Raises BackupRefused."""
    if not path.is_file():
        raise BackupRefused(f"“{path}” is not there. Give the file of a backup.")
    check(path)
    with tempfile.TemporaryDirectory(dir=settings.WORK_FOLDER, prefix="restoring-") as folder:
        fresh = Path(folder) / path.name
        shutil.copyfile(path, fresh)
        _bring_up_to_date(fresh)
        yield fresh


def unknown_migrations(file: Path) -> tuple[set[tuple[str, str]], set[tuple[str, str]]]:
    """Of a database file, what this version does not know of, and what it lacks."""
    with closing(sqlite3.connect(f"file:{file}?mode=ro", uri=True)) as copy:
        theirs = {(str(app), str(name)) for app, name in copy.execute("SELECT app, name FROM django_migrations")}
    ours = set(MigrationLoader(None).disk_migrations)
    return theirs - ours, ours - theirs


def _bring_up_to_date(fresh: Path) -> None:
    newer, lacking = unknown_migrations(fresh)
    if newer:
        raise BackupRefused(f"{fresh.name} was made by a newer version. Install that version, then restore it there.")
    if lacking:
        if wrong := migrate_other(WISE_TALLY_DATABASE=str(fresh)):
            raise BackupRefused(f"{fresh.name} could not be brought up to this version: {wrong}")
        # Nothing of the copy may be left in a write-ahead log beside it.
        with closing(sqlite3.connect(fresh)) as copy:
            copy.execute("PRAGMA journal_mode=DELETE")


def _put_files_back(fresh: Path) -> None:
    """The files of imports that the backup holds; of an older backup none."""
    root = Path(settings.WORK_FOLDER)
    with closing(sqlite3.connect(f"file:{fresh}?mode=ro", uri=True)) as copy:
        if not copy.execute("SELECT 1 FROM sqlite_master WHERE name = 'sqlar'").fetchone():
            return
        for name, size, data in copy.execute("SELECT name, sz, data FROM sqlar WHERE name LIKE 'imports/%'"):
            path = (root / name).resolve()
            if path.is_relative_to(root.resolve() / "imports"):
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(data if len(data) == size else zlib.decompress(data))


def replace_damaged(path: Path) -> Path:
    """Put a backup in the place of a database that cannot be read any more; that one is kept beside. The server must not run."""
    target = Path(settings.DATABASE_FILE)
    aside = target.with_name(f"{target.name}.damaged-{time.strftime('%Y%m%d-%H%M%S')}")
    with prepared(path) as fresh:
        connection.close()
        for ending in ("", "-wal", "-shm"):
            old = Path(f"{target}{ending}")
            if old.exists():
                old.replace(f"{aside}{ending}")
        fresh.replace(target)
        _put_files_back(target)
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("DROP TABLE IF EXISTS sqlar")
        # Above any number that a reader may have seen of the file that is gone.
        another_database(BookNumber(number=(beyond := int(time.time())), ground=beyond, epoch=beyond, beside=beyond))
        end_every(set(ApiToken.objects.values_list("digest", flat=True)))
    return aside
