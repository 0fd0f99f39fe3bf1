"""`./tally move TARGET`: copy the workspace into another database, of PostgreSQL or a file of SQLite."""

from typing import Any

from django.conf import settings
from django.core.management import CommandParser

from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse
from wise_tally.operation.moving import MoveRefused, move_to


class Command(OneLineCommand):
    """The present database stays; the command prints what to set next."""

    help = "Copy the workspace into another database."

    def add_arguments(self, parser: CommandParser) -> None:
        """Where to."""
        parser.add_argument("target", help="postgresql://user@host/name, or a file of SQLite that is not there yet")

    def handle(self, *args: Any, **options: Any) -> None:
        """Copy all, then say how many rows there are."""
        target = options["target"]
        ensure_database()
        try:
            counts = move_to(target)
        except MoveRefused as refused:
            refuse(str(refused))
        is_server = "://" in target
        setting = "WISE_TALLY_DATABASE_URL" if is_server else "WISE_TALLY_DATABASE"
        folder = settings.WORK_FOLDER
        beside = (
            f"{folder} stays in use." if is_server else f"Copy secret_key and imports from {folder} beside the file."
        )
        self.stdout.write(f"{sum(counts.values()):,} rows of {len(counts)} tables are there too.")
        self.stdout.write(f"Set {setting}={target} and start the server anew. {beside}")
