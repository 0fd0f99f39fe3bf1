"""`./tally bench`: times of core, import and pages, beside a plain numpy baseline of the same run."""

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import date
from itertools import cycle, pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

from django.core.management import BaseCommand, CommandParser

from wise_tally.bench.package import TODAY, write_bench

if TYPE_CHECKING:
    from django.test import Client

    from wise_tally.core.book import Book
    from wise_tally.core.calendar import Period

SIZES = (1_000, 10_000, 100_000)
PEOPLE = (50, 300, 1_000)
RUNS = 9
TIMES = "times.json"
FIRST, WARM, KILOBYTES = 250, 150, 160
"""What a page may take: milliseconds at the first sight of a selection and after it, and kilobytes of HTML."""
PAGES = (
    "/brief/",
    "/brief/findings/",
    "/today/",
    "/deals/",
    "/deals/?view=lanes",
    "/forecast/",
    "/forecast/outlook/",
    "/forecast/submitted/",
    "/forecast/what-if/",
    "/forecast/accuracy/",
    "/conversion/",
    "/conversion/?by=person",
    "/conversion/time/",
    "/conversion/time/?by=person",
    "/conversion/probability-check/",
    "/attainment/",
    "/attainment/?by=person",
    "/attainment/period-comparison/?by=person",
    "/attainment/commissions/",
    "/team/",
    "/team/this-week/",
    "/team/deals-by-rep/",
    "/team/contact-gaps/",
    "/team/one-to-ones/",
    "/team/one-to-ones/p01/",
    "/setup/quotas/",
    "/setup/lists/people/",
    "/setup/tree/teams/",
)


class Command(BaseCommand):
    """Each size in its own database and process, so that memory and caches are its own."""

    help = "Measure core, import and pages."

    def add_arguments(self, parser: CommandParser) -> None:
        """One firm is measured inside; without it all are, one process each."""
        parser.add_argument("--size", type=int)
        parser.add_argument("--read", action="store_true")
        parser.add_argument("--largest", type=int, default=SIZES[-1])
        parser.add_argument("--people", type=int, nargs="*", default=PEOPLE)

    def handle(self, *args: Any, **options: Any) -> None:
        """Measure one firm, or all: of more and more deals, then of more and more people."""
        if options["read"]:
            read(Path(os.environ["WISE_TALLY_BENCH_PACKAGE"]))
        elif options["size"]:
            measure(options["size"])
        else:
            few, *more = options["people"]
            sizes = [size for size in SIZES if size <= options["largest"]]
            by_size = {size: run_firm(size, few) for size in sizes}
            print_growth("deals", by_size)
            largest = sizes[-1]
            print_growth("people", {few: by_size[largest]} | {people: run_firm(largest, people) for people in more})


def print_growth(of: str, times: dict[int, dict[str, float]]) -> None:
    """How much longer each work takes from firm to firm; ten times the deals should take at most ten times as long."""
    print(f"\ngrowth with {of}")
    for name in next(iter(times.values())):
        steps = (f"{a:,} to {b:,}: {times[b][name] / times[a][name]:.1f} times" for a, b in pairwise(times))
        print(f"  {name:42} {'   '.join(steps)}")


def run_firm(size: int, people: int) -> dict[str, float]:
    """Write a package, read it in one process, measure in another; milliseconds of the core and of pages by name."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        print(f"\na firm of {people:,} reps and {size:,} deals")
        write_bench(folder, size, people)
        own = {"WISE_TALLY_DATABASE": str(folder / "bench.sqlite3"), "WISE_TALLY_BENCH_PACKAGE": name}
        settings = {"DJANGO_SETTINGS_MODULE": "wise_tally.config.settings.demo", "WISE_TALLY_TODAY": str(TODAY.date())}
        environment = {**os.environ, **own, **settings}
        sys.stdout.flush()
        for words in (["--read"], ["--size", str(size)]):
            subprocess.run([sys.executable, "manage.py", "bench", *words], env=environment, check=True)
        times: dict[str, float] = json.loads((folder / TIMES).read_text())
        return times


def read(folder: Path) -> None:
    """Import time and peak memory."""
    from wise_tally.interfaces.command_line import ensure_database
    from wise_tally.package.reading import read_package

    ensure_database()
    started = time.perf_counter()
    report = read_package(folder, TODAY)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    rows = sum(report.rows.values())
    print(
        f"\nimport of {rows:,} rows: {time.perf_counter() - started:.1f} s, peak memory {peak:,.0f} MB (at most 60 s, 1,500 MB)"
    )


def timed(work: Callable[[], object]) -> float:
    """Median milliseconds of several runs after one to warm up."""
    work()
    times = []
    for _ in range(RUNS):
        started = time.perf_counter()
        work()
        times.append((time.perf_counter() - started) * 1000)
    return statistics.median(times)


def measure(size: int) -> None:
    """Core against the baseline, then pages."""
    from wise_tally.bench import baseline
    from wise_tally.book.store import books
    from wise_tally.core.conversion import ConversionOptions, conversion
    from wise_tally.core.forecast import forecast
    from wise_tally.core.lines import Filter
    from wise_tally.core.time_in_stage import time_in_stage

    started = time.perf_counter()
    book = books.current()
    print(f"  the book read in {time.perf_counter() - started:.2f} s")
    day, fiscal = TODAY.date(), book.reference.fiscal
    quarter, year = fiscal.containing(day, "quarter"), fiscal.containing(day, "year")
    one = Filter(process=0)
    options, quota_columns = ConversionOptions(), baseline.QuotaColumns(book)
    works: dict[str, tuple[Callable[[], object], Callable[[], object]]] = {
        "forecast by rep": (
            lambda: forecast(book, book.states(day, book.rows_on(day)), quarter, Filter(), "person"),
            lambda: baseline.forecast_by_rep(book, quota_columns, quarter, day),
        ),
        "conversion by rep": (
            lambda: conversion(book, book.states(day, book.rows_on(day)), year, one, options, "person"),
            lambda: baseline.conversion_by_rep(book, year, day),
        ),
        "time in stage by rep": (
            lambda: time_in_stage(book, book.states(day, book.rows_on(day)), year, one, "person"),
            lambda: baseline.time_in_stage_by_rep(book, year, day),
        ),
    }
    times = {}
    for name, (core, plain) in works.items():
        core_ms, plain_ms = timed(core), timed(plain)
        times[name] = core_ms
        print(f"  {name:22} core {core_ms:8.1f} ms   numpy {plain_ms:8.1f} ms   ratio {core_ms / plain_ms:4.1f}")
    outlook(book, day, quarter)
    times |= pages()
    (Path(os.environ["WISE_TALLY_BENCH_PACKAGE"]) / TIMES).write_text(json.dumps(times))


def outlook(book: "Book", day: date, quarter: "Period") -> None:
    """The outlook from nothing as after a change that moves deals, with its fit kept, and the range of one team."""
    from wise_tally.core.forecast import forecast_lines
    from wise_tally.core.lines import Filter
    from wise_tally.core.outlook.distribution import outcome_of
    from wise_tally.core.outlook.fit import fit
    from wise_tally.core.outlook.rows import days_ahead, of_deals, stakes_of

    snapshot = book.as_of(day)

    def whole(scope: Filter) -> object:
        lines = forecast_lines(book, snapshot, quarter, scope, "company")
        return outcome_of(stakes_of(book, lines, of_deals(book, snapshot, quarter)).may_be_won)

    horizon = days_ahead(snapshot, quarter)[1]
    learnt = timed(lambda: fit.__wrapped__(book, day, horizon))  # type: ignore[attr-defined]
    company, team = timed(lambda: whole(Filter())), timed(lambda: whole(Filter(team=0)))
    print(
        f"  outlook                fit {learnt:8.1f} ms   cached {company:6.1f} ms   a team's range {team:5.1f} ms (at most 200, 60, 20)"
    )


def pages() -> dict[str, float]:
    """Each page at first sight and warm, then the forecast grid after one change of a deal; the warm milliseconds by address."""
    import logging

    from django.contrib.auth.models import User
    from django.test import Client

    from wise_tally.domain.deals.models import DealRevision
    from wise_tally.domain.org.models import Person, Team
    from wise_tally.interfaces.starting import compile_pages, first_figures

    # Each request would write its own line between those of the table.
    logging.disable(logging.INFO)
    user, _ = User.objects.get_or_create(username="boss")
    Person.objects.filter(key="boss").update(user=user)
    client = Client(HTTP_HOST="localhost")
    client.force_login(user)
    started = time.perf_counter()
    compile_pages()
    first_figures()
    print(f"  what a server has ready at its start, in {time.perf_counter() - started:.1f} s")
    measured = {}
    print(
        f"  {'page':42} first, first of a team, warm (at most {FIRST}, {FIRST}, {WARM} ms), size (at most {KILOBYTES} kB), queries"
    )
    # Another team for each page, so that none finds what another computed.
    teams = cycle(Team.objects.exclude(parent=None).order_by("-pk").values_list("key", flat=True))
    for address, team in zip(PAGES, teams, strict=False):
        measured[f"page {address}"] = measured_page(client, address, team)
    times = []
    for run in range(5):
        last = DealRevision.objects.filter(deal__key="d000001").order_by("-pk")[0]
        typed = {"stage": "ns_offer", "amount": f"{run + 1}.00", "expected_close": "2026-12-01", "revision": last.pk}
        answer = client.post("/deals/d000001/change/", {**typed, "category": "", "next": "/forecast/"})
        assert answer.status_code == 302, answer.content[:500]
        started = time.perf_counter()
        client.get("/forecast/")
        times.append((time.perf_counter() - started) * 1000)
    print(f"  {'page /forecast/ after one change':42} {statistics.median(times):14.0f} ms")
    return measured


def measured_page(client: "Client", address: str, team: str) -> float:
    """Print one page's line, at first sight also that of a team, with what is over its bound; its warm milliseconds."""
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    started = time.perf_counter()
    with CaptureQueriesContext(connection) as queries:
        answer = client.get(address)
    first, statements = (time.perf_counter() - started) * 1000, len(queries)
    started = time.perf_counter()
    client.get(f"{address}{'&' if '?' in address else '?'}who=team:{team}")
    of_team = (time.perf_counter() - started) * 1000
    warm = timed(lambda: client.get(address))
    assert answer.status_code == 200, f"{address} answered {answer.status_code}"
    kilobytes = len(answer.content) / 1024
    over = "over" if max(first, of_team) > FIRST or warm > WARM or kilobytes > KILOBYTES else ""
    print(f"  {address:42} {first:6.0f} {of_team:6.0f} {warm:7.0f} ms {kilobytes:7.0f} kB {statements:5}   {over}")
    return warm
