"""`./tally restore FILE`: put a backup back, after saying what would be lost."""

import sys
from pathlib import Path
from typing import Any

from django.core.management import CommandParser
from django.db import DatabaseError, connection

from wise_tally.domain.formats import moment, plural
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Role
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse
from wise_tally.operation.backup import BackupRefused, folder
from wise_tally.operation.restoring import Losses, losses, replace_damaged, restore_backup

OPERATOR = Viewer("", "the operator", Role.ADMIN, ())


class Command(OneLineCommand):
    """Works while the server runs; where the present database is damaged, the server must stand still."""

    help = "Put a backup back. What is there now is kept as a backup first."

    def add_arguments(self, parser: CommandParser) -> None:
        """Which, and whether it is sure."""
        parser.add_argument("file", metavar="FILE", type=Path, help="a backup: its path, or its name among the backups")
        parser.add_argument("--yes", action="store_true", help="do not ask")

    def handle(self, *args: Any, **options: Any) -> None:
        """Say what would be lost, ask, do it."""
        file: Path = options["file"]
        path = file if file.is_file() else folder() / file.name
        try:
            if _is_damaged():
                _sure(options, "The present database is damaged; it will be kept beside. The server must not run now.")
                aside = replace_damaged(path)
                self.stdout.write(f"Restored {path.name}. The damaged file is {aside.name}. Start the server now.")
                return
            ensure_database()
            _sure(options, losses_in_words(losses(path)))
            before = restore_backup(OPERATOR, path, now())
        except BackupRefused as refused:
            refuse(str(refused))
        self.stdout.write(
            f"Restored {path.name}. What was there before is kept as {before.name}. Everybody signs in again."
        )


def losses_in_words(lost: Losses) -> str:
    """What would be lost, in words."""
    if not lost.same_history:
        return f"This backup is of other data: all of the present ({plural(lost.changes, 'change')}) would be replaced."
    if lost.last_at is None:
        return "Nothing was changed since this backup."
    people = ", ".join(f"{who} {number}" for who, number in lost.people)
    return f"{plural(lost.changes, 'change')} since this backup would be lost ({people}), the last of {moment(lost.last_at)}."


def _is_damaged() -> bool:
    try:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA quick_check")
            return bool(cursor.fetchone()[0] != "ok")
    except DatabaseError:
        return True


def _sure(options: dict[str, Any], words: str) -> None:
    print(words)
    if options["yes"]:
        return
    if not sys.stdin.isatty():
        refuse("Add --yes to restore without being asked.")
    if input("Restore? Type yes: ").strip().casefold() != "yes":
        refuse("Nothing was restored.")
