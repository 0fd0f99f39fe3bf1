"""What the commands share: one-line errors, a database that is there."""

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NoReturn

from django.core.management import BaseCommand, CommandParser, call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor


class OneLineParser(CommandParser):
    """A bad option ends with exit status 2 and one line that says what is accepted."""

    def error(self, message: str) -> NoReturn:
        """One line on standard error."""
        refuse(message)


def refuse(message: str) -> NoReturn:
    """Say what was wrong and what is accepted; exit status 2."""
    print(" ".join(message.split()), file=sys.stderr)
    raise SystemExit(2)


@contextmanager
def whole_output() -> Iterator[None]:
    """Write to standard output to its end; a reader that went away is no error."""
    try:
        yield
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


class OneLineCommand(BaseCommand):
    """A command with one-line errors that makes and migrates the database when missing."""

    requires_system_checks: list[str] = []

    def create_parser(self, prog_name: str, subcommand: str, **kwargs: Any) -> CommandParser:
        """A parser whose errors are one line."""
        parser = OneLineParser(prog=f"tally {subcommand}", description=self.help, **kwargs)
        self.add_base_argument(parser, "--traceback", action="store_true", help="Show a traceback on errors.")
        parser.set_defaults(
            verbosity=1, settings=None, pythonpath=None, no_color=False, force_color=False, skip_checks=True
        )
        self.add_arguments(parser)
        return parser


def ensure_database() -> None:
    """Make and migrate the database where it is missing or behind."""
    executor = MigrationExecutor(connection)
    if executor.migration_plan(executor.loader.graph.leaf_nodes()):
        call_command("migrate", verbosity=0, interactive=False)
