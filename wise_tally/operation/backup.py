"""Backups: a checked copy of the database, made while it is in use, in one file with what stands beside the database."""

import json
import os
import re
import sqlite3
import time
import zlib
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import connection

from wise_tally.domain.database import is_file
from wise_tally.domain.refusals import WriteConflict
from wise_tally.domain.storage_faults import DatabaseDamaged, words_of

NAME = re.compile(r"wise-tally-\d{8}-\d{6}(-\d+)?(-nightly|-upgrade)?\.sqlite3")
NIGHTLY, UPGRADE = "-nightly", "-upgrade"
# Files beside the database are kept in a table of the copy as SQLite's own archives have it: https://sqlite.org/sqlar.html
ARCHIVE = "CREATE TABLE sqlar(name TEXT PRIMARY KEY, mode INT, mtime INT, sz INT, data BLOB)"
OLD = timedelta(days=2)


OF_THE_SERVER = (
    "The database is on a PostgreSQL server, which is backed up and restored by its own tools, pg_dump and pg_restore, or by its"
    " storage."
)


class BackupRefused(WriteConflict):
    """A backup that is not there, or is not whole."""


def require_file() -> None:
    """Raise BackupRefused where the database is no file of this machine."""
    if not is_file():
        raise BackupRefused(OF_THE_SERVER)


@dataclass(frozen=True)
class Backup:
    """A kept copy."""

    name: str
    size: int
    made_at: datetime


def folder() -> Path:
    """Where backups stand: where the operator says, else beside the database."""
    path = Path(settings.BACKUP_FOLDER or Path(settings.WORK_FOLDER) / "backups")
    path.mkdir(parents=True, exist_ok=True)
    return path


def backups_made() -> list[Backup]:
    """All backups, the newest first."""
    files = [path for path in folder().iterdir() if NAME.fullmatch(path.name)]
    made = [
        Backup(path.name, path.stat().st_size, datetime.fromtimestamp(path.stat().st_mtime).astimezone())
        for path in files
    ]
    return sorted(made, key=lambda one: (one.made_at, one.name), reverse=True)


def too_old() -> bool:
    """Whether the last backup is older than two days, or there is none; by the true clock."""
    made = backups_made()
    return is_file() and (not made or datetime.now(UTC) - made[0].made_at > OLD)


def make_backup(now: datetime, label: str = "") -> Backup:
    """Copy the database as it is at one moment, check the copy, keep it.

    Raises DatabaseDamaged where the database is, BackupRefused where it is a server's.
    """
    require_file()
    base, number = f"wise-tally-{now:%Y%m%d-%H%M%S}", 2
    target = folder() / f"{base}{label}.sqlite3"
    while target.exists():
        target, number = folder() / f"{base}-{number}{label}.sqlite3", number + 1
    with _unfinished(target) as fresh:
        # By a connection of its own: one that writes cannot be copied from, and a restore holds the lock meanwhile.
        present = sqlite3.connect(f"file:{connection.settings_dict['NAME']}?mode=ro", uri=True)
        with closing(present), closing(sqlite3.connect(fresh)) as copy:
            present.backup(copy)
            # One file without a write-ahead log beside it.
            copy.execute("PRAGMA journal_mode=DELETE")
            _keep_files(copy)
        try:
            check(fresh)
        except BackupRefused as refused:
            raise DatabaseDamaged(
                f"The database itself is damaged, so no backup of it was made ({refused}). Restore the last good backup:"
                " ./tally restore FILE"
            ) from refused
        fresh.replace(target)
    return next(backup for backup in backups_made() if backup.name == target.name)


@contextmanager
def _unfinished(target: Path) -> Iterator[Path]:
    """A file to be filled, gone in the end unless it was given its name; so are those that a killed process left long ago."""
    for left in folder().glob("*.new*"):
        if time.time() - left.stat().st_mtime > OLD.total_seconds():
            left.unlink(missing_ok=True)
    fresh = target.with_suffix(f".{os.getpid()}.new")
    try:
        yield fresh
    finally:
        for left in (fresh, Path(f"{fresh}-journal")):
            left.unlink(missing_ok=True)


def _keep_files(copy: sqlite3.Connection) -> None:
    """The files of imports, with what undoes them, and the settings of the server but for what is secret."""
    copy.execute("DROP TABLE IF EXISTS sqlar")
    copy.execute(ARCHIVE)
    root = Path(settings.WORK_FOLDER)
    for path in sorted((root / "imports").glob("*/*")):
        if path.is_file() and path.name not in ("running", "progress.json", "log"):
            _put(copy, str(path.relative_to(root)), path.read_bytes(), int(path.stat().st_mtime))
    shown = {name: value for name, value in os.environ.items() if name.startswith("WISE_TALLY_") and "KEY" not in name}
    _put(copy, "settings.json", json.dumps(shown, indent=1, sort_keys=True).encode(), int(time.time()))
    copy.commit()


def _put(copy: sqlite3.Connection, name: str, content: bytes, moment: int) -> None:
    packed = zlib.compress(content)
    data = packed if len(packed) < len(content) else content
    copy.execute("INSERT INTO sqlar VALUES (?, ?, ?, ?, ?)", (name, 0o100600, moment, len(content), data))


def check(path: Path) -> None:
    """Raise BackupRefused unless the file is a whole database of this application."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as copy:
            whole = copy.execute("PRAGMA integrity_check").fetchone()[0]
            copy.execute("SELECT app, name FROM django_migrations LIMIT 1").fetchone()
    except sqlite3.Error as error:
        why = words_of(error) or str(error)
        raise BackupRefused(f"{path.name} is not a complete database ({why}). Choose another backup.") from error
    if whole != "ok":
        raise BackupRefused(f"{path.name} is damaged ({whole[:80]}). Choose another backup.")


def prune(most: int) -> list[str]:
    """Take away nightly backups but for the newest; names of those that went."""
    nightly = [one.name for one in backups_made() if one.name.endswith(f"{NIGHTLY}.sqlite3")]
    for name in nightly[most:]:
        (folder() / name).unlink(missing_ok=True)
    return nightly[most:]
