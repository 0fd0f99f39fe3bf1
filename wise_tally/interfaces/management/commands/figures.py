"""`./tally figures NAME [options]`: compute and print."""

import csv
import json
import sys
from datetime import date
from typing import Any

from django.core.management import CommandParser

from wise_tally.core.breakdowns import OF_FIGURES
from wise_tally.core.bridge import MEASURES
from wise_tally.core.conversion import BASES
from wise_tally.core.day_reader import iso_day
from wise_tally.core.errors import CoreError
from wise_tally.domain.org.clock import today
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse, whole_output
from wise_tally.interfaces.figures import FIGURES, figures
from wise_tally.interfaces.question import OptionRefused, Question
from wise_tally.interfaces.shared import flat


def a_date(text: str) -> date:
    """A date as YYYY-MM-DD from 1900 to 2199."""
    return iso_day(text)


a_date.__name__ = "date (YYYY-MM-DD, 1900 to 2199)"


class Command(OneLineCommand):
    """Compute figures and print them."""

    help = "Compute figures and print them as a table, JSON or CSV."

    def add_arguments(self, parser: CommandParser) -> None:
        """The options of the exchange contract."""
        parser.add_argument("figure", metavar="NAME", choices=list(FIGURES))
        parser.add_argument("--period")
        parser.add_argument("--as-of", type=a_date)
        parser.add_argument("--by", default="company", choices=OF_FIGURES)
        for name in ("process", "team", "territory", "person"):
            parser.add_argument(f"--{name}", metavar="ID")
        parser.add_argument("--basis", default="created", choices=BASES)
        parser.add_argument("--strict", action="store_true")
        parser.add_argument("--decided-only", action="store_true")
        parser.add_argument("--value", action="store_true")
        parser.add_argument("--leave-out", metavar="ID", action="append", default=[])
        parser.add_argument("--from", dest="since", type=a_date)
        parser.add_argument("--measure", default="weighted", choices=MEASURES)
        parser.add_argument("--format", choices=("json", "csv", "table"))

    def handle(self, *args: Any, **options: Any) -> None:
        """Ask and print."""
        ensure_database()
        names = (
            "figure",
            "period",
            "by",
            "process",
            "team",
            "territory",
            "person",
            "basis",
            "strict",
            "decided_only",
            "since",
            "measure",
        )
        question = Question(
            as_of=options["as_of"] or today(),
            by_value=options["value"],
            leave_out=tuple(options["leave_out"]),
            **{name: options[name] for name in names},
        )
        try:
            answer = figures(question)
        except (OptionRefused, CoreError) as error:
            refuse(str(error))
        shape = options["format"] or ("table" if sys.stdout.isatty() else "json")
        with whole_output():
            {"json": print_json, "csv": print_csv, "table": print_table}[shape](answer)


def print_json(answer: dict[str, Any]) -> None:
    """Full double precision, null for none."""
    print(json.dumps(answer, indent=1, ensure_ascii=False))


def print_csv(answer: dict[str, Any]) -> None:
    """One line a row; an empty cell is none."""
    rows = [flat(row) for row in answer["rows"]]
    out = csv.writer(sys.stdout, lineterminator="\n")
    if rows:
        out.writerow(rows[0])
        out.writerows(["" if value is None else value for value in row.values()] for row in rows)


def print_table(answer: dict[str, Any]) -> None:
    """Aligned columns for people; – is none."""
    rows = [flat(row) for row in answer["rows"]]
    scope = answer["scope"]
    print(f"{answer['figure']} · {scope['period']} · as of {scope['as_of']} · by {scope['by']}")
    if not rows:
        print("no rows for this selection")
        return
    cells = [list(rows[0]), *([_short(value) for value in row.values()] for row in rows)]
    widths = [max(len(row[i]) for row in cells) for i in range(len(cells[0]))]
    for row in cells:
        aligned = (c.ljust(w) if i < 2 else c.rjust(w) for i, (c, w) in enumerate(zip(row, widths, strict=True)))
        print("  ".join(aligned).rstrip())


def _short(value: Any) -> str:
    if value is None:
        return "–"
    return f"{value:.4f}" if isinstance(value, float) else str(value)
