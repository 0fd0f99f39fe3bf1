"""What goes wrong with files and the database, in words that say what to do."""

import errno
import sqlite3

from django.conf import settings

NOT_A_DATABASE = (
    "The database file {file} is damaged or no database. Restore the last good backup: ./tally restore FILE (it works without"
    " the present file, which is kept beside)."
)
BY_CODE = {
    sqlite3.SQLITE_FULL: "The disk is full: free some space where {file} is, then try again. Nothing was changed.",
    sqlite3.SQLITE_READONLY: "The database file {file} or its folder is read-only for this user. Give the user of the server"
    " the right to write there.",
    sqlite3.SQLITE_CORRUPT: NOT_A_DATABASE,
    sqlite3.SQLITE_NOTADB: NOT_A_DATABASE,
    sqlite3.SQLITE_CANTOPEN: "The database file {file} cannot be opened. Its folder must be there, and this user must be"
    " allowed to write in it.",
    sqlite3.SQLITE_IOERR: "The disk under {file} reported an error. Look at the system's log and at the space that is left.",
    sqlite3.SQLITE_BUSY: "Something else is writing to {file} just now, perhaps an import. Try again in a minute.",
}
# Of PostgreSQL by its own codes: https://www.postgresql.org/docs/15/errcodes-appendix.html; without one it was not reached.
BY_STATE = {
    None: "The PostgreSQL server of WISE_TALLY_DATABASE_URL does not answer. See that it runs and that this machine reaches it.",
    "53100": "The disk of the PostgreSQL server is full: free some space there, then try again. Nothing was changed.",
    "53300": "The PostgreSQL server takes no more connections. Raise its max_connections, or start fewer workers.",
    "57P03": "The PostgreSQL server is starting or stopping. Try again in a minute.",
    "25006": "The PostgreSQL server is read-only, perhaps a stand-by. Set WISE_TALLY_DATABASE_URL to the one that writes.",
}
BY_ERRNO = {
    errno.ENOSPC: "The disk is full: free some space where {file} is, then try again.",
    errno.EROFS: "The disk is read-only: {file} cannot be written.",
    errno.EACCES: "This user may not read or write {file}. Start as the user whom the data belongs to.",
    errno.EADDRINUSE: "The port is in use by another program. Set WISE_TALLY_PORT to a free one, or stop that program.",
}


class DatabaseDamaged(Exception):
    """The present database is damaged."""


def words_of(error: BaseException) -> str | None:
    """What a fault of the machine means and what to do; None for any other error."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, DatabaseDamaged):
            return str(cause)
        code = getattr(cause, "sqlite_errorcode", None)
        if isinstance(cause, sqlite3.Error) and code is not None and (code & 0xFF) in BY_CODE:
            return BY_CODE[code & 0xFF].format(file=settings.DATABASE_FILE)
        # Other errors without a code are faults of the application.
        if hasattr(cause, "sqlstate") and (cause.sqlstate or type(cause).__name__ == "OperationalError"):
            return BY_STATE.get(cause.sqlstate)
        if isinstance(cause, OSError) and cause.errno in BY_ERRNO:
            return BY_ERRNO[cause.errno].format(file=cause.filename or settings.DATABASE_FILE)
        cause = cause.__cause__ or cause.__context__
    return None
