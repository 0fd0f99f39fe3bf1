"""`./tally backtest [options]`: how weighted, actual win rates, the run rate and the outlook did in past windows."""

import json
from datetime import date
from typing import Any

from django.core.management import CommandParser

from wise_tally.book.store import books
from wise_tally.core.answers.outlook import why_it_leads
from wise_tally.core.backtest import CHECKPOINTS
from wise_tally.core.book import Book
from wise_tally.core.calendar import local_days
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.back_test import (
    METHODS,
    OF_DEALS,
    RollingTest,
    past_periods,
    rolling_test,
    rolling_windows,
)
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW
from wise_tally.core.outlook.verdict import verdict
from wise_tally.domain.org.clock import today
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database, refuse, whole_output
from wise_tally.interfaces.management.commands.figures import a_date
from wise_tally.web.answers import plain

KINDS = ("window", "month", "quarter", "year")
NAMES = {"weighted": "weighted", "actual": "actual win rates", "run_rate": "run rate", "outlook": "outlook"}


class Command(OneLineCommand):
    """Ask every method about past windows, as they were seen then."""

    help = "Back-test the outlook beside weighted, actual win rates and the run rate."

    def add_arguments(self, parser: CommandParser) -> None:
        """Which windows, up to which day."""
        parser.add_argument("--as-of", type=a_date, help="the day of the last change of a deal by default")
        parser.add_argument(
            "--kind", choices=KINDS, default="window", help="what a window is; overlapping ones by default"
        )
        parser.add_argument("--windows", type=int, default=10, help="how many of them")
        parser.add_argument("--days", type=int, default=91, help="days of an overlapping window")
        parser.add_argument("--format", choices=("json", "table"), default="table")

    def handle(self, *args: Any, **options: Any) -> None:
        """Test and print."""
        ensure_database()
        if not 1 <= options["windows"] <= 100 or not 7 <= options["days"] <= 366:
            refuse("--windows takes 1 to 100, --days 7 to 366.")
        book = books.current()
        day = options["as_of"] or _last_day(book)
        kind, number = options["kind"], options["windows"]
        windows = (
            rolling_windows(book, day, options["days"], number)
            if kind == "window"
            else past_periods(book, day, kind, number)
        )
        rolling = rolling_test(book, book.as_of(day), windows, Filter())
        if not rolling.enough:
            refuse(
                f"Too few deals have closed for a back-test: it needs two past windows before which {ENOUGH_TO_SHOW} deals "
                "or more with history had been won or lost. Come back when more have closed, or shorten the windows."
            )
        with whole_output():
            if options["format"] == "json":
                print(json.dumps(_as_data(rolling), indent=1))
            else:
                _print_table(rolling)
                quarter = book.reference.fiscal.containing(day, "quarter")
                print(f"\n{plain(why_it_leads(verdict(book, book.as_of(day), quarter, Filter())))}")


def _last_day(book: Book) -> date:
    """The day of the last change of a deal: what ends long ago is tested up to its end. Today without any."""
    moments = book.revisions.effective_at
    if not len(moments):
        return today()
    return date.fromordinal(int(local_days(moments.max(keepdims=True), book.reference.time_zone)[0]))


def _as_data(rolling: RollingTest) -> dict[str, Any]:
    parts = {"all": rolling, **{checkpoint: rolling.of_checkpoint(checkpoint) for checkpoint in CHECKPOINTS}}
    return {
        "windows": [[look.period.text, look.on.isoformat(), look.came] for look in rolling.looks],
        "scores": {part: {method: vars(test.score(method)) for method in METHODS} for part, test in parts.items()},
        "reliability": {
            method: [
                None if one is None else [one.deals, one.mean_chance, one.rate] for one in rolling.reliability(method)
            ]
            for method in OF_DEALS
        },
    }


def _print_table(rolling: RollingTest) -> None:
    windows = {look.period.text for look in rolling.looks}
    chances = sum(len(look.won) for look in rolling.looks)
    print(f"{len(windows)} windows, {len(rolling.looks)} looks, {chances} chances of open deals")
    print("MAE and bias as shares of what was won; CRPS as a share of weighted's; within: outcomes between P10 and P90")
    for part in (None, *CHECKPOINTS):
        test = rolling if part is None else rolling.of_checkpoint(part)
        base = test.score("weighted").crps
        print(f"\n{'all looks' if part is None else part:<18}{'MAE':>8}{'bias':>8}{'CRPS':>8}{'within':>8}{'Brier':>8}")
        for method in METHODS:
            one = test.score(method)
            share = one.crps / base if one.crps is not None and base else None
            print(
                f"{NAMES[method]:<18}"
                + "".join(_cell(value) for value in (one.error, one.bias, share, one.coverage, one.brier))
            )
    print("\nreliability: average chance → share won (deals)")
    for method in OF_DEALS:
        tenths = [f"{one.mean_chance:.2f}→{one.rate:.2f} ({one.deals})" for one in rolling.reliability(method) if one]
        print(f"{NAMES[method]:<18}{'  '.join(tenths)}")


def _cell(value: float | None) -> str:
    return f"{'–' if value is None else format(value, '.3f'):>8}"
