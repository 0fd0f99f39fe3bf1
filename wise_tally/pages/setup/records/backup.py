"""Backups: a checked copy of the database file, made while it is in use; restoring puts one back after a check."""

import re
import sqlite3
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.db import connection

from wise_tally.book.store import books
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import another_database, present_number
from wise_tally.domain.org.models import ApiToken
from wise_tally.web.request.sessions import end_every

NAME = re.compile(r"wise-tally-\d{8}-\d{6}(-\d+)?\.sqlite3")


class BackupRefused(Exception):
    """A backup that is not there, or is not whole."""


@dataclass(frozen=True)
class Backup:
    """A kept copy."""

    name: str
    size: int
    made_at: datetime


def folder() -> Path:
    """Where backups stand: beside the database."""
    found = Path(settings.WORK_FOLDER) / "backups"
    found.mkdir(parents=True, exist_ok=True)
    return found


def backups_made() -> list[Backup]:
    """All backups, the newest first."""
    files = [path for path in folder().iterdir() if NAME.fullmatch(path.name)]
    return [
        Backup(path.name, path.stat().st_size, datetime.fromtimestamp(path.stat().st_mtime).astimezone())
        for path in sorted(files, reverse=True)
    ]


def make_backup(now: datetime) -> Backup:
    """Copy the database as it is at one moment, check the copy, keep it."""
    base = f"wise-tally-{now:%Y%m%d-%H%M%S}"
    target, number = folder() / f"{base}.sqlite3", 2
    while target.exists():
        target, number = folder() / f"{base}-{number}.sqlite3", number + 1
    fresh = target.with_suffix(".new")
    connection.ensure_connection()
    copy = sqlite3.connect(fresh)
    try:
        connection.connection.backup(copy)
        # One file without a write-ahead log beside it.
        copy.execute("PRAGMA journal_mode=DELETE")
    finally:
        copy.close()
    check(fresh)
    fresh.replace(target)
    return next(backup for backup in backups_made() if backup.name == target.name)


def check(path: Path) -> None:
    """Raise BackupRefused unless the file is a whole database of this application with the tables of this version."""
    try:
        copy = sqlite3.connect(f"file:{path}?mode=ro", uri=True)
        try:
            whole = copy.execute("PRAGMA integrity_check").fetchone()[0]
            theirs = {tuple(row) for row in copy.execute("SELECT app, name FROM django_migrations")}
        finally:
            copy.close()
    except sqlite3.Error as error:
        raise BackupRefused(f"{path.name} is not a complete database ({error}). Choose another backup.") from error
    if whole != "ok":
        raise BackupRefused(f"{path.name} is damaged ({whole[:80]}). Choose another backup.")
    with connection.cursor() as cursor:
        cursor.execute("SELECT app, name FROM django_migrations")
        ours = {tuple(row) for row in cursor.fetchall()}
    if theirs != ours:
        raise BackupRefused(f"{path.name} was made by another version. Choose a backup of this version.")


def restore_backup(viewer: Viewer, name: str, now: datetime) -> Backup:
    """Put a backup back after a check; what was there is kept as a new backup first."""
    viewer.require(May.SET_ORGANISATION)
    path = folder() / name
    if not NAME.fullmatch(name) or not path.exists():
        raise BackupRefused(f"“{name[:80]}” is not a backup. Choose one from the list.")
    check(path)
    before, number = make_backup(now), present_number()
    tokens = set(ApiToken.objects.values_list("digest", flat=True))
    source = sqlite3.connect(f"file:{path}?mode=ro", uri=True)
    try:
        source.backup(connection.connection)
    finally:
        source.close()
    another_database(number)
    end_every(tokens)
    audit(viewer, "backup restored", name, now, before=before.name)
    books.forget()
    return before
