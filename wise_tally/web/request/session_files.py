"""Sessions in files beside the database: a page that remembers something for its reader never waits for who writes."""

from pathlib import Path

from django.conf import settings
from django.contrib.sessions.backends.file import SessionStore as FileSessions


class SessionStore(FileSessions):
    """Django's sessions in files, in a folder that is made when it is first needed."""

    @classmethod
    def _get_storage_path(cls) -> str:
        folder = Path(settings.SESSION_FILE_PATH)
        folder.mkdir(parents=True, exist_ok=True)
        return str(folder)


def end_all_sessions() -> None:
    """Nobody is signed in any more, in no browser."""
    for path in Path(SessionStore._get_storage_path()).glob(f"{settings.SESSION_COOKIE_NAME}*"):
        path.unlink(missing_ok=True)
