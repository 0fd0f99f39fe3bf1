"""The quota grid: nodes × months of a fiscal year, sums against set values with their difference."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.targets import Target, quotas
from wise_tally.core.trees import NONE
from wise_tally.scope.line import in_tree_order
from wise_tally.targets.actions import QuotaCell
from wise_tally.ui.numbers import typed_money
from wise_tally.ui.templatetags.figures import money_input

Typed = dict[str, str]


@dataclass(frozen=True)
class Cell:
    """One month of one node: the own quota as typed or kept, and the sum of its parts."""

    name: str
    month: str
    value: str
    seen: str
    fault: str


@dataclass(frozen=True)
class Line:
    """One node: cells, the year's own sum, the parts' sum and their difference, in minor units."""

    token: str
    name: str
    depth: int
    cells: list[Cell]
    own: int | None
    of_parts: int | None

    @property
    def difference(self) -> int | None:
        """Own quota − sum of the parts'; None where either is none."""
        return None if self.own is None or self.of_parts is None else self.own - self.of_parts


@dataclass(frozen=True)
class QuotaGrid:
    """A fiscal year's grid."""

    year: int
    months: tuple[Period, ...]
    lines: list[Line]
    faults: list[str]


Seen = frozenset[int] | None


def nodes_of(book: Book, today: date, seen: Seen) -> list[tuple[str, str, str, int, int]]:
    """Subject, identifier, name, index and depth of every row: company, teams with their members.

    `seen` narrows the rows to the teams that the viewer may open; None is the whole organisation.
    """
    ground = book.ground
    tree = ground.team_tree(today)
    members: dict[int, list[int]] = {}
    for index in range(len(ground.people)):
        members.setdefault(ground.team_of(index, today.toordinal()), []).append(index)
    rows = [("company", "", ground.organisation, NONE, 0)] if seen is None else []
    for team, depth in in_tree_order(tree):
        if seen is not None and team not in seen:
            continue
        rows.append(("team", ground.teams[team].key, ground.teams[team].name, team, depth + 1))
        for person in sorted(members.get(team, []), key=lambda i: ground.people[i].name):
            rows.append(("person", ground.people[person].key, ground.people[person].name, person, depth + 2))
    for person in members.get(NONE, []) if seen is None else []:
        rows.append(("person", ground.people[person].key, ground.people[person].name, person, 1))
    return rows


def quota_grid(
    book: Book, year: int, today: date, seen: Seen, typed: Typed | None = None, faults: Typed | None = None
) -> QuotaGrid:
    """The grid as kept, with typed values and faults over it."""
    typed, faults = typed or {}, faults or {}
    months = book.ground.fiscal.months_of(year)
    by_month = [quotas(book.ground, today, month) for month in months]
    lines = []
    for subject, key, name, index, depth in nodes_of(book, today, seen):
        targets = [month.of(subject, index) for month in by_month]
        cells = []
        for month, target in zip(months, targets, strict=True):
            cell = f"{subject}:{key}:{month.starts_on}"
            kept = str(money_input(target.own)).removesuffix(".00")
            cells.append(Cell(cell, f"{month.starts_on:%b}", typed.get(cell, kept), kept, faults.get(cell, "")))
        lines.append(Line(f"{subject}:{key}", name, depth, cells, _sum(targets, "own"), _sum(targets, "of_parts")))
    shown = [
        f"{name.split(':')[0]} {name.split(':')[1]}, {name.split(':')[2]}: {text}" for name, text in faults.items()
    ]
    return QuotaGrid(year, months, lines, shown)


def _sum(targets: list[Target], part: str) -> int | None:
    known = [value for value in (getattr(target, part) for target in targets) if value is not None]
    return sum(known) if known else None


def read_cells(
    posted: Mapping[str, str], book: Book, year: int, today: date, seen: Seen, decimals: int
) -> tuple[list[QuotaCell], Typed, dict[str, str]]:
    """Changed cells, everything typed, and faults by cell."""
    cells: list[QuotaCell] = []
    typed: Typed = {}
    faults: dict[str, str] = {}
    for subject, key, *_ in nodes_of(book, today, seen):
        for month in book.ground.fiscal.months_of(year):
            name = f"{subject}:{key}:{month.starts_on}"
            if f"q:{name}" not in posted:
                continue
            text, kept_text = posted[f"q:{name}"].strip(), posted.get(f"seen:{name}", "")
            typed[name] = text
            if text == kept_text:
                continue
            value = typed_money(text or "0", decimals)
            kept = typed_money(kept_text, decimals) if kept_text else None
            if isinstance(value, str) or isinstance(kept, str):
                faults[name] = value if isinstance(value, str) else "The value seen is not a number."
                continue
            cells.append(QuotaCell(subject, key, month.starts_on, month.ends_on, value, kept))
    return cells, typed, faults
