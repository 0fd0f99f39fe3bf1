"""`./tally findings [options]`: how often what the brief foretold came true on past Mondays, beside what it was silent about."""

import json
from typing import Any

from django.core.management import CommandParser

from wise_tally.book.store import books
from wise_tally.core.findings.finding import KINDS
from wise_tally.core.findings.measured import WORDS, Score
from wise_tally.core.money import ratio
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Role
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse, whole_output
from wise_tally.web.findings.past import MONDAYS, past_scores
from wise_tally.web.visibility import Visibility


class Command(OneLineCommand):
    """Ask for the findings of past Mondays and their outcome."""

    help = "How often the findings of past Mondays came true, beside what no finding told of."

    def add_arguments(self, parser: CommandParser) -> None:
        """How many Mondays, and how to print."""
        parser.add_argument("--mondays", type=int, default=MONDAYS, help="how many Mondays, the last 91 days back")
        parser.add_argument("--format", choices=("json", "table"), default="table")

    def handle(self, *args: Any, **options: Any) -> None:
        """Look back and print."""
        ensure_database()
        if not 1 <= options["mondays"] <= 200:
            refuse("--mondays takes 1 to 200.")
        if not len(books.current().deals.key):
            refuse("There are no deals yet, so no Monday to look back on. Import some, or add a deal.")
        everybody = Viewer("", "the look back", Role.ADMIN, ())
        scores = past_scores(everybody, Visibility(everybody, books.stored()), today(), options["mondays"])
        with whole_output():
            if options["format"] == "json":
                by_kind = {kind: vars(score) for kind, score in scores.items()}
                print(
                    json.dumps(
                        {"as_of": today().isoformat(), "mondays": options["mondays"], "scores": by_kind}, indent=1
                    )
                )
            else:
                _print_table(scores)


def _print_table(scores: dict[str, Score]) -> None:
    print(f"{'finding':<26}{'told':>7}{'true':>7}{'others':>8}{'true':>7}  came true:")
    for kind, one in scores.items():
        rates = (ratio(one.true, one.named), ratio(one.true_others, one.others))
        first, second = ("–" if rate is None else f"{rate:.0%}" for rate in rates)
        print(f"{KINDS[kind].name:<26}{one.named:>7}{first:>7}{one.others:>8}{second:>7}  {WORDS[kind]}")
