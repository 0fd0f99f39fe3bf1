"""`./tally import DIR`: read a package, all or nothing."""

import sys
from pathlib import Path
from typing import Any

from django.core.management import CommandParser

from wise_tally.domain.formats import plural
from wise_tally.domain.org.clock import now
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package


class Command(OneLineCommand):
    """Read a package."""

    help = "Import a data package. If any row has an error, nothing is imported."

    def add_arguments(self, parser: CommandParser) -> None:
        """The folder."""
        parser.add_argument("folder", metavar="DIR", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        """Faults go to standard error with exit status 1."""
        folder: Path = options["folder"]
        if not folder.is_dir():
            refuse(f"“{folder}” is not a folder. Give a folder that contains datapackage.json.")
        ensure_database()
        try:
            report = read_package(folder, now())
        except PackageRefused as refused:
            print("\n".join(refused.report.lines()), file=sys.stderr)
            raise SystemExit(1) from None
        for note in report.notes:
            print(note)
        print(f"read {plural(sum(report.rows.values()), 'row')} of {len(report.rows)} tables")
