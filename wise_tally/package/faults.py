"""Faults of a package: all at once, each with its place."""

from dataclasses import dataclass, field

FIRST_FAULTS = 1000


@dataclass(frozen=True)
class Fault:
    """One fault; `row` is the line on which the record begins, 0 for the whole file."""

    file: str
    row: int
    column: str
    wrong: str
    right: str

    def __str__(self) -> str:
        return ", ".join([self.file, str(self.row or ""), self.column, self.wrong, self.right])


@dataclass
class Report:
    """What reading found: faults stop it, notes do not."""

    faults: list[Fault] = field(default_factory=list)
    more: int = 0
    notes: list[str] = field(default_factory=list)
    rows: dict[str, int] = field(default_factory=dict)
    most: int = FIRST_FAULTS

    def add(self, file: str, row: int, column: str, wrong: str, right: str) -> None:
        """Keep a fault, up to so many; count the others."""
        if len(self.faults) < self.most:
            self.faults.append(Fault(file, row, column, wrong, right))
        else:
            self.more += 1

    def lines(self) -> list[str]:
        """The report, a line a fault."""
        lines = [str(fault) for fault in sorted(self.faults, key=lambda f: (f.file, f.row))]
        return [*lines, f"and {self.more} more errors"] if self.more else lines


class PackageRefused(Exception):
    """A package with faults: nothing of it was taken."""

    def __init__(self, report: Report) -> None:
        first = "; ".join(str(fault) for fault in report.faults[:3])
        super().__init__(f"{len(report.faults) + report.more} errors; nothing was imported: {first}")
        self.report = report
