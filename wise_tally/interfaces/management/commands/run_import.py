"""Carry one import out in a process of its own; started by the import page, not by hand."""

from typing import Any

from django.core.management import BaseCommand, CommandParser

from wise_tally.domain.imports.models import ImportRun, ImportStatus
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person
from wise_tally.pages.setup.imports.run import carry_out


class Command(BaseCommand):
    """Interrupting it is safe: everything or nothing is taken, and it can be started again."""

    help = "Run one import."

    def add_arguments(self, parser: CommandParser) -> None:
        """The run and who asked for it."""
        parser.add_argument("run", type=int)
        parser.add_argument("person")

    def handle(self, *args: Any, **options: Any) -> None:
        """Take the file in; a failure of the machine leaves the run as refused with its words."""
        run = ImportRun.objects.get(pk=options["run"])
        try:
            carry_out(run, viewer_of(Person.objects.get(key=options["person"])), now())
        except Exception as error:
            report = {"faults": [[0, "", f"the import stopped: {error}", "start it again"]], "count": 1}
            ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.REFUSED, report=report)
            raise
