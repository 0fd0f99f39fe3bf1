"""`./tally export DIR`: write the workspace as a package."""

from pathlib import Path
from typing import Any

from django.core.management import CommandParser

from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Role
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse
from wise_tally.package.writing import write_package


class Command(OneLineCommand):
    """Write a package."""

    help = "Export the whole workspace as a data package."

    def add_arguments(self, parser: CommandParser) -> None:
        """The folder."""
        parser.add_argument("folder", metavar="DIR", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        """Write and say how much."""
        folder: Path = options["folder"]
        if folder.exists() and not folder.is_dir():
            refuse(f"“{folder}” is a file. Give a folder; it is created if missing.")
        ensure_database()
        counts = write_package(folder, now())
        # Whoever can run commands on the server can read all of it; that it was done is written down.
        audit(Viewer("", "the command line", Role.ADMIN, ()), "package exported", str(folder), now())
        print(f"wrote {plural(sum(counts.values()), 'row')} of {len(counts)} tables to {folder}")
