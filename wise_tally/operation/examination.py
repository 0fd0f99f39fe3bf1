"""What an operator may have got wrong, each thing looked at by itself: what was found and what to do."""

import os
import shutil
import socket
import sqlite3
import stat
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor

from wise_tally.domain.database import is_file
from wise_tally.domain.number_settings import number
from wise_tally.domain.storage_faults import words_of
from wise_tally.operation.backup import backups_made, folder, too_old
from wise_tally.operation.restoring import unknown_migrations

GOOD, DOUBTFUL, WRONG = "good", "doubtful", "wrong"
LEAST_FREE = 1_000_000_000
COPIES = 3
"""Room for the database, a backup of it, and what is written while one is put back."""
OVER_A_NETWORK = ("nfs", "nfs4", "cifs", "smb3", "smbfs", "fuse.sshfs")
MAIL_SECONDS = 5


@dataclass(frozen=True)
class Finding:
    """How one thing stands, and what to do where it is not good."""

    about: str
    state: str
    words: str


Look = Callable[[], Iterator[Finding]]


def examined() -> Iterator[Finding]:
    """Everything, in the order in which it is mended."""
    looks: tuple[tuple[str, Look], ...] = (
        ("secret key", _secret_key),
        ("database", _database),
        ("disk", _disk),
        ("backups", _backups),
        ("addresses", _addresses),
        ("mail", _mail),
        ("clock", _clock),
    )
    for about, look in looks:
        try:
            yield from look()
        except (ImproperlyConfigured, OSError, sqlite3.Error, DatabaseError) as error:
            yield Finding(about, WRONG, words_of(error) or str(error))


def port_to_serve() -> Finding:
    """Whether the address that the server is to have is free."""
    address, port = os.environ.get("WISE_TALLY_BIND", "127.0.0.1"), number("WISE_TALLY_PORT", 8000, int)
    kind = socket.AF_INET6 if ":" in address else socket.AF_INET
    with closing(socket.socket(kind)) as listener:
        # As the server does: a port that was just given up is free.
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind((address.strip("[]"), port))
        except (OSError, OverflowError) as error:
            words = words_of(error) if isinstance(error, OSError) else None
            return Finding(
                "port",
                WRONG,
                words or f"{address}:{port} cannot be served ({error}). Set WISE_TALLY_BIND and WISE_TALLY_PORT.",
            )
    return Finding("port", GOOD, f"{address}:{port} is free")


def _secret_key() -> Iterator[Finding]:
    length = len(str(settings.SECRET_KEY))
    key_file = Path(settings.DATABASE_FILE).parent / "secret_key"
    if length < 32:
        yield Finding("secret key", WRONG, "It is shorter than 32 signs. Take a longer one, or let one be made.")
    elif not os.environ.get("WISE_TALLY_SECRET_KEY") and key_file.stat().st_mode & (stat.S_IRGRP | stat.S_IROTH):
        yield Finding("secret key", DOUBTFUL, f"Others on this machine can read it: chmod 600 {key_file}")
    else:
        yield Finding("secret key", GOOD, "there, and closed to others")


def _server() -> Iterator[Finding]:
    with connection.cursor() as cursor:
        cursor.execute("SELECT current_database(), datcollate FROM pg_database WHERE datname = current_database()")
        name, order = cursor.fetchone()
    if order not in ("C", "POSIX"):
        words = f"{name} sorts by {order}, so files are not in the order of others. Make it with LC_COLLATE 'C' and TEMPLATE template0."
        yield Finding("database", WRONG, words)
    executor = MigrationExecutor(connection)
    lacking = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if lacking:
        yield Finding("database", DOUBTFUL, f"{len(lacking)} steps behind this version; ./tally serve makes them")
    else:
        yield Finding("database", GOOD, f"{name} answers and is of this version; its server makes its backups")


def _database() -> Iterator[Finding]:
    if not is_file():
        yield from _server()
        return
    file = Path(settings.DATABASE_FILE)
    if not os.access(file.parent, os.W_OK):
        yield Finding(
            "database", WRONG, f"This user may not write in {file.parent}. Give the right, or start as its user."
        )
        return
    kind = _file_system(file.parent)
    if kind in OVER_A_NETWORK:
        words = f"{file.parent} is on another machine ({kind}); locks do not hold there. Move it to a disk of this one."
        yield Finding("database", WRONG, words)
    if not file.exists():
        yield Finding("database", GOOD, f"none yet; ./tally serve makes {file}")
        return
    if not os.access(file, os.W_OK):
        yield Finding("database", WRONG, f"{file} is read-only for this user. Give the right, or start as its user.")
        return
    with closing(sqlite3.connect(f"file:{file}?mode=ro", uri=True)) as present:
        whole = present.execute("PRAGMA quick_check").fetchone()[0]
    if whole != "ok":
        yield Finding("database", WRONG, f"{file} is damaged ({whole[:80]}). Restore a backup: ./tally restore FILE")
        return
    newer, lacking = unknown_migrations(file)
    if newer:
        yield Finding("database", WRONG, f"{file} was written by a newer version. Install that version.")
    elif lacking:
        yield Finding(
            "database", DOUBTFUL, f"{len(lacking)} steps behind this version; ./tally serve makes a backup and them"
        )
    else:
        yield Finding("database", GOOD, f"{file} is whole and of this version ({file.stat().st_size:,} bytes)")


def _file_system(path: Path) -> str:
    """The kind of the file system, where the machine reveals it."""
    try:
        mounts = [line.split() for line in Path("/proc/mounts").read_text().splitlines()]
    except OSError:
        return ""
    above = [(mount[1], mount[2]) for mount in mounts if path.is_relative_to(mount[1].replace("\\040", " "))]
    return max(above, key=lambda one: len(one[0]), default=("", ""))[1]


def _disk() -> Iterator[Finding]:
    file = Path(settings.DATABASE_FILE)
    size = file.stat().st_size if file.exists() else 0
    for name, folder_path in {"database": file.parent, "backups": folder()}.items():
        free = shutil.disk_usage(folder_path).free
        if free < max(LEAST_FREE, COPIES * size):
            yield Finding("disk", WRONG, f"{free // 1_000_000:,} MB free for {name} in {folder_path}: make room soon.")
        else:
            yield Finding("disk", GOOD, f"{free // 1_000_000_000:,} GB free for {name}")


def _backups() -> Iterator[Finding]:
    if not is_file():
        return
    file, backups = Path(settings.DATABASE_FILE), folder()
    if not os.access(backups, os.W_OK):
        yield Finding("backups", WRONG, f"This user may not write in {backups}.")
        return
    made = backups_made()
    if too_old() and file.exists():
        words = f"The last is of {made[0].made_at:%Y-%m-%d}" if made else "There is none"
        yield Finding("backups", DOUBTFUL, f"{words}. ./tally backup makes one; ./tally serve does every night.")
    elif made:
        yield Finding("backups", GOOD, f"{len(made)} in {backups}, the last of {made[0].made_at:%Y-%m-%d %H:%M}")
    if backups.stat().st_dev == file.parent.stat().st_dev:
        yield Finding(
            "backups", DOUBTFUL, "On the same disk as the database. Set WISE_TALLY_BACKUP_FOLDER to another one."
        )


def _addresses() -> Iterator[Finding]:
    secure, hosts = getattr(settings, "SECURE", False), settings.ALLOWED_HOSTS
    if settings.DEMO:
        yield Finding("addresses", GOOD, "the demo, on this machine only")
        return
    if secure and not settings.SECURE_PROXY_SSL_HEADER:
        words = "No proxy is named that says TLS was used (WISE_TALLY_TLS_HEADER), so every page leads to itself again."
        yield Finding("addresses", WRONG, f"{words} On a trusted network without TLS set WISE_TALLY_PLAIN_HTTP=1.")
    if secure and not settings.TRUSTED_PROXIES:
        yield Finding("addresses", DOUBTFUL, "WISE_TALLY_PROXIES is not set: all requests seem to come from the proxy.")
    site = settings.SITE_ADDRESS.split("://")[-1].split("/")[0].rsplit(":", 1)[0]
    if "*" not in hosts and site not in hosts:
        yield Finding(
            "addresses", DOUBTFUL, f"WISE_TALLY_ADDRESS leads to {site}, which is not one of WISE_TALLY_HOSTS."
        )
    yield Finding("addresses", GOOD, f"answers to {', '.join(hosts)}")


def _mail() -> Iterator[Finding]:
    if not settings.EMAIL_URL:
        yield Finding("mail", GOOD, "goes into the outbox; EMAIL_URL names a server")
        return
    try:
        socket.create_connection((settings.EMAIL_HOST, settings.EMAIL_PORT), MAIL_SECONDS).close()
        yield Finding("mail", GOOD, f"{settings.EMAIL_HOST} answers")
    except OSError as error:
        words = (
            f"{settings.EMAIL_HOST}:{settings.EMAIL_PORT} does not answer ({error}). Look at EMAIL_URL and the network."
        )
        yield Finding("mail", WRONG, words)


def _clock() -> Iterator[Finding]:
    if (day := os.environ.get("WISE_TALLY_TODAY")) and not settings.DEMO:
        yield Finding(
            "clock", WRONG, f"WISE_TALLY_TODAY keeps the day at {day}. Take it away; it is for demos and tests."
        )
    else:
        yield Finding("clock", GOOD, "that of the machine")
