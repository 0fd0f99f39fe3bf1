"""Reading a package: parse, check, then write everything or nothing."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from babel.numbers import get_currency_precision
from django.db import transaction

from wise_tally.domain.database import large_write
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org.book_number import old_rows_changed, present_number
from wise_tally.domain.org.models import Workspace
from wise_tally.package.checker import Checker
from wise_tally.package.checks import CHECKS, known_currency
from wise_tally.package.faults import FIRST_FAULTS, PackageRefused, Report
from wise_tally.package.parse import Parsed, parse_file, read_descriptor
from wise_tally.package.staging import staging
from wise_tally.package.tables import TABLES
from wise_tally.package.taking import Taking
from wise_tally.package.workspace_file import read_file, take_file

Step = Callable[[str], None]


def read_package(folder: Path, now: datetime, step: Step = lambda name: None) -> Report:
    """Take a package into the database: all of it, or, with faults, nothing (PackageRefused).

    `now` is the moment given to revisions of known deals that come changed and without revisions. `step` hears
    of each part of the work as it begins.
    """
    with check_package(folder, step).ready(step) as ready, transaction.atomic():
        return ready.take(now, step)


def check_package(folder: Path, step: Step = lambda name: None, most: int = 0) -> "CheckedPackage":
    """A package read and found without faults against the database as it is, while others go on writing; else PackageRefused.

    Of the faults the first are reported, at least `most`.
    """
    report, against = Report(most=max(most, FIRST_FAULTS)), _checked_against()
    step("reading")
    package = _parse_all(folder, report)
    step("checking")
    return CheckedPackage(folder, package, report, _check(folder, package, report), against)


def _checked_against() -> tuple[object, ...]:
    """Tells whether anything changed that a check looks at: all but what becomes of deals that are there."""
    number = present_number()
    return number.ground, number.epoch, number.beside, Deal.objects.order_by("pk").last()


@dataclass(frozen=True)
class CheckedPackage:
    """A package without faults, `rest` what is no table, `against` what the database was when it was checked."""

    folder: Path
    package: dict[str, Parsed]
    report: Report
    rest: dict[str, Any] | None
    against: tuple[object, ...]

    @contextmanager
    def ready(self, step: Step = lambda name: None) -> Iterator["ReadyPackage"]:
        """Its rows set down beside the database, so that taking them is short; begin the transaction inside."""
        step("preparing")
        with staging() as staged, large_write():
            yield ReadyPackage(self, Taking(self.package, staged))


@dataclass(frozen=True)
class ReadyPackage:
    """A package whose rows stand beside the database."""

    checked: CheckedPackage
    taking: Taking

    def take(self, now: datetime, step: Step = lambda name: None) -> Report:
        """Write all of it; must stand in a transaction. What changed since the check is checked against (PackageRefused)."""
        checked, report = self.checked, self.checked.report
        rest = checked.rest
        if _checked_against() != checked.against:
            rest = _check(checked.folder, checked.package, Report())
        self.taking.begin()
        for name in TABLES:
            if name in checked.package:
                step(f"writing {name}")
                self.taking.write(name, now)
                report.rows[name] = len(checked.package[name])
        self.taking.fill_in_late()
        if rest:
            take_file(rest)
        old_rows_changed()
        return report


def _check(folder: Path, package: dict[str, Parsed], report: Report) -> dict[str, Any] | None:
    checker = Checker(package, _decimals(package), report)
    checker.run(CHECKS)
    rest = read_file(folder, checker.keys, report)
    if report.faults:
        raise PackageRefused(report)
    return rest


def _parse_all(folder: Path, report: Report) -> dict[str, Parsed]:
    paths = read_descriptor(folder, report)
    package: dict[str, Parsed] = {}
    if "settings" in paths:
        package["settings"] = parse_file(paths["settings"], TABLES["settings"], 2, report)
    decimals = _decimals(package)
    for name, table in TABLES.items():
        if name in paths and name != "settings":
            package[name] = parse_file(paths[name], table, decimals, report)
    return package


def _decimals(package: dict[str, Parsed]) -> int:
    currency = Workspace.current().currency
    if settings := package.get("settings"):
        given = dict(zip(settings.get("key"), settings.get("value"), strict=True))
        currency = given.get("currency", currency)
    return get_currency_precision(currency) if isinstance(currency, str) and known_currency(currency) else 2
