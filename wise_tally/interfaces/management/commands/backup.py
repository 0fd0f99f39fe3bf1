"""`./tally backup`: make a checked copy of the database."""

from typing import Any

from django.conf import settings
from django.core.management import CommandParser

from wise_tally.domain.org.clock import now
from wise_tally.interfaces.command_line import OneLineCommand, refuse
from wise_tally.operation.backup import NIGHTLY, BackupRefused, folder, make_backup, prune


class Command(OneLineCommand):
    """Prints where the copy stands."""

    help = "Create and check a backup of the database."

    def add_arguments(self, parser: CommandParser) -> None:
        """Nightly ones are few: the oldest go."""
        parser.add_argument(
            "--nightly", action="store_true", help="one of the few that are kept by WISE_TALLY_BACKUPS_KEPT"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        """Make one backup."""
        try:
            made = make_backup(now(), NIGHTLY if options["nightly"] else "")
        except BackupRefused as refused:
            refuse(str(refused))
        self.stdout.write(f"{folder() / made.name} ({made.size:,} bytes, checked)")
        if options["nightly"]:
            for name in prune(settings.BACKUPS_KEPT):
                self.stdout.write(f"{name} taken away")
