"""`manage.py upgrade`: bring the database to this version, after a backup; `./tally serve` does it at its start."""

from pathlib import Path
from typing import Any

from django.conf import settings

from wise_tally.domain.database import is_file, one_upgrade
from wise_tally.domain.org.clock import now
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse
from wise_tally.operation.backup import UPGRADE, make_backup
from wise_tally.operation.restoring import unknown_migrations


class Command(OneLineCommand):
    """A database of a newer version is refused; nothing is done to one of this version."""

    help = "Bring the database to this version, after a backup."

    def handle(self, *args: Any, **options: Any) -> None:
        """One line about what was done."""
        if not is_file():
            # Its backups are made where the server is; several of ours may start at once.
            with one_upgrade():
                ensure_database()
            return
        file = Path(settings.DATABASE_FILE)
        if not file.exists():
            ensure_database()
            self.stdout.write(f"Made a new database: {file}")
            return
        newer, lacking = unknown_migrations(file)
        if newer:
            refuse(f"{file} was written by a newer version. Install that version, or restore a backup of this one.")
        if lacking:
            self.stdout.write(f"Backup before the upgrade: {make_backup(now(), UPGRADE).name}")
            ensure_database()
            self.stdout.write(f"The database is of this version now ({len(lacking)} steps).")
