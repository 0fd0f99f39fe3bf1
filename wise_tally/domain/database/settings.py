"""How Django reaches a database: a file of SQLite, or a PostgreSQL by its address."""

from pathlib import Path
from typing import Any

from django.core.exceptions import ImproperlyConfigured

from wise_tally.domain.database.sqlite import CACHE


def database(file: Path, patience: float, url: str) -> dict[str, Any]:
    """The setting of the file, or of what `url` names; a write waits `patience` seconds for another. Raises ImproperlyConfigured."""
    return _server(url, patience) if url else _file(file, patience)


def _file(file: Path, patience: float) -> dict[str, Any]:
    return {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": file,
        "CONN_MAX_AGE": None,
        "OPTIONS": {
            # A write transaction takes its lock at the start, so two writers queue instead of failing half way.
            "transaction_mode": "IMMEDIATE",
            "timeout": patience,
            # Each thread keeps little for itself: pages of the file are shared through the machine's own cache.
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; "
            f"PRAGMA cache_size={CACHE}; PRAGMA mmap_size=1073741824;",
        },
    }


def _server(url: str, patience: float) -> dict[str, Any]:
    try:
        from dj_database_url import parse
    except ImportError as error:
        raise ImproperlyConfigured(
            "WISE_TALLY_DATABASE_URL needs what requirements/postgresql.lock lists; ./tally installs it by itself."
        ) from error
    if not url.startswith(("postgres://", "postgresql://")):
        raise ImproperlyConfigured(
            "WISE_TALLY_DATABASE_URL begins with postgresql://, as in postgresql://user@host/name."
        )
    parsed = parse(url, engine="wise_tally.domain.database.one_writer", conn_max_age=None, conn_health_checks=True)
    options = {"options": f"-c lock_timeout={round(patience * 1000)}", **parsed.get("OPTIONS", {})}
    return {**parsed, "OPTIONS": options}
