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
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

from django.core.management import BaseCommand, CommandParser

from wise_tally.bench.package import TODAY, write_bench

if TYPE_CHECKING:
    from wise_tally.core.book import Book
    from wise_tally.core.calendar import Period

SIZES = (1_000, 10_000, 100_000)
RUNS = 9
TIMES = "times.json"


class Command(BaseCommand):
    """Each size in its own database and process, so that memory and caches are its own."""

    help = "Measure core, import and pages."

    def add_arguments(self, parser: CommandParser) -> None:
        """One size is measured inside; without it all are, one process each."""
        parser.add_argument("--size", type=int)
        parser.add_argument("--read", action="store_true")
        parser.add_argument("--largest", type=int, default=SIZES[-1])

    def handle(self, *args: Any, **options: Any) -> None:
        """Measure one size, or all."""
        if options["read"]:
            read(Path(os.environ["WISE_TALLY_BENCH_PACKAGE"]))
        elif options["size"]:
            measure(options["size"])
        else:
            times: dict[str, dict[int, float]] = {}
            for size in SIZES:
                if size <= options["largest"]:
                    for name, milliseconds in run_size(size).items():
                        times.setdefault(name, {})[size] = milliseconds
            print_growth(times)


def print_growth(times: dict[str, dict[int, float]]) -> None:
    """How much longer the core takes from size to size; ten times the deals should take at most ten times as long."""
    print("\ngrowth of the core from size to size")
    for name, by_size in times.items():
        steps = (f"{a:,} to {b:,}: {by_size[b] / by_size[a]:.1f} times" for a, b in pairwise(sorted(by_size)))
        print(f"  {name:22} {'   '.join(steps)}")


def run_size(size: int) -> dict[str, float]:
    """Write a package, read it in one process, measure in another; the core's milliseconds by name."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_bench(folder, size)
        own = {"WISE_TALLY_DATABASE": str(folder / "bench.sqlite3"), "WISE_TALLY_BENCH_PACKAGE": name}
        settings = {"DJANGO_SETTINGS_MODULE": "wise_tally.config.settings.demo", "WISE_TALLY_TODAY": str(TODAY.date())}
        environment = {**os.environ, **own, **settings}
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
    print(f"{size:,} deals: the book read in {time.perf_counter() - started:.2f} s")
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
    (Path(os.environ["WISE_TALLY_BENCH_PACKAGE"]) / TIMES).write_text(json.dumps(times))
    pages(size)


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
        return outcome_of(stakes_of(book, lines, of_deals(book, snapshot, quarter)).asked)

    horizon = days_ahead(snapshot, quarter)[1]
    learnt = timed(lambda: fit.__wrapped__(book, day, horizon))  # type: ignore[attr-defined]
    kept, team = timed(lambda: whole(Filter())), timed(lambda: whole(Filter(team=0)))
    print(
        f"  outlook                fit {learnt:8.1f} ms   with it kept {kept:6.1f} ms   a team's range {team:5.1f} ms (at most 200, 60, 20)"
    )


def pages(size: int) -> None:
    """The forecast grid warm, and after one change of a deal."""
    from django.contrib.auth.models import User
    from django.test import Client

    from wise_tally.domain.deals.models import DealRevision
    from wise_tally.domain.org.models import Person

    user, _ = User.objects.get_or_create(username="boss")
    Person.objects.filter(key="boss").update(user=user)
    client = Client(HTTP_HOST="localhost")
    client.force_login(user)
    for address in ("/forecast/", "/deals/", "/conversion/", "/conversion/time/", "/attainment/", "/team/"):
        print(f"  page {address:20} warm {timed(partial(client.get, address)):8.1f} ms")
    times = []
    for run in range(5):
        last = DealRevision.objects.filter(deal__key="d000001").order_by("-pk")[0]
        typed = {"stage": "ns_offer", "amount": f"{run + 1}.00", "expected_close": "2026-12-01", "revision": last.pk}
        answer = client.post("/deals/d000001/change/", {**typed, "category": "", "next": "/forecast/"})
        assert answer.status_code == 302, answer.content[:500]
        started = time.perf_counter()
        client.get("/forecast/")
        times.append((time.perf_counter() - started) * 1000)
    print(f"  page /forecast/ after one change {statistics.median(times):8.1f} ms ({size:,} deals)")
