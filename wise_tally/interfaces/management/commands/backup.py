"""`./tally backup`: make a checked copy of the database."""

from typing import Any

from django.core.management import BaseCommand

from wise_tally.domain.org.clock import now
from wise_tally.pages.setup.records.backup import folder, make_backup


class Command(BaseCommand):
    """Prints where the copy stands."""

    help = "Create and check a backup of the database."

    def handle(self, *args: Any, **options: Any) -> None:
        """Make one backup."""
        made = make_backup(now())
        self.stdout.write(f"{folder() / made.name} ({made.size:,} bytes, checked)")
