"""`./tally doctor`: what is wrong with the installation, and what to do."""

from typing import Any

from django.core.management import CommandParser

from wise_tally.interfaces.command_line import OneLineCommand
from wise_tally.operation.examination import WRONG, examined, port_to_serve


class Command(OneLineCommand):
    """One line a thing; exit status 1 where one is wrong."""

    help = "Look at settings, database, disk, backups, addresses and mail; say what is wrong and what to do."

    def add_arguments(self, parser: CommandParser) -> None:
        """All, or what keeps a server from working."""
        parser.add_argument("--before-serving", action="store_true", help="whether the port is free, too")
        parser.add_argument("--serious", action="store_true", help="only what is wrong")

    def handle(self, *args: Any, **options: Any) -> None:
        """Print and judge."""
        results = [*examined(), *([port_to_serve()] if options["before_serving"] else [])]
        for result in results:
            if result.state == WRONG or not options["serious"]:
                self.stdout.write(f"{result.state:9} {result.about:11} {result.words}")
        if any(result.state == WRONG for result in results):
            raise SystemExit(1)
