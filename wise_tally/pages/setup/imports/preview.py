"""What an import will do, shown before it is done: rows by effect, faults by kind, how dates and numbers are read."""

import re
from collections import Counter
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from functools import cached_property

from wise_tally.domain.formats import count, currency_decimals, day, money
from wise_tally.pages.setup.imports.kinds import Kind
from wise_tally.pages.setup.imports.prepare import MODELS, Matching, Prepared, Preparer, RowFault
from wise_tally.pages.setup.imports.rehearsal import CHANGED, NEW, UNCHANGED, Rehearsal, rehearse
from wise_tally.web.files.uploads import UploadedTable

TRIED_ROWS, SHOWN_ROWS, SHOWN_NUMBERS, EXAMPLES = 3_000, 25, 5, 3
FAULTY = "errors"
DAYS, NUMBERS = ("date", "moment"), ("money", "signed_money", "number", "percent", "days")
MONEY = ("money", "signed_money")
SHOWN = {NEW: "new", CHANGED: "changed", UNCHANGED: "unchanged", FAULTY: "with errors"}


@dataclass(frozen=True)
class FaultKind:
    """Faults of one kind in one column: the first in words, what is expected, and the rows."""

    column: str
    wrong: str
    right: str
    rows: str


@dataclass(frozen=True)
class PreviewRow:
    """A row of the file as it will be read, and what it will do or what is wrong with it."""

    number: int
    cells: list[str]
    does: str
    is_faulty: bool


@dataclass(frozen=True)
class Preview:
    """Rows tried (`cut` where the file has more), rows by effect as choices, and what is shown of them."""

    tried: int
    cut: bool
    choices: list[tuple[str, str, int, bool]]
    accounts: int
    faults: list[FaultKind]
    names: list[str]
    rows: list[PreviewRow]
    left_out: list[str]
    examples: dict[str, list[str]]


@dataclass(frozen=True)
class _Tried:
    """A file's rows, how they are read, and the outcome of trying them."""

    kind: Kind
    table: UploadedTable
    matching: Matching
    prepared: Prepared
    rehearsal: Rehearsal

    @cached_property
    def wrong(self) -> dict[int, list[RowFault]]:
        """Faults by row."""
        by_row: dict[int, list[RowFault]] = {}
        for fault in self.rehearsal.faults:
            by_row.setdefault(fault.row, []).append(fault)
        return by_row

    @cached_property
    def effects(self) -> dict[int, str]:
        """What each row does."""
        good = {row: effect.kind for row, effect in self.rehearsal.effects.items()}
        return good | dict.fromkeys(self.wrong, FAULTY)

    @cached_property
    def read(self) -> dict[int, dict[str, str]]:
        """Rows as they were read."""
        return dict(self.prepared.rows)

    @cached_property
    def names(self) -> list[str]:
        """The columns matched, in their order."""
        return [name for name in self.kind.columns if name in self.matching.columns]

    def rows(self, show: str) -> list[PreviewRow]:
        """The first rows, or the first of one effect."""
        places = [self.table.header.index(self.matching.columns[name]) for name in self.names]
        wanted = [row for row in self.table.rows if not show or self.effects.get(row[0]) == show]
        rows = []
        for number, cells in wanted[:SHOWN_ROWS]:
            row = self.read.get(number)
            typed = [cells[index] for index in places]
            shown = [self._shown(name, row.get(name, "")) for name in self.names] if row else typed
            rows.append(PreviewRow(number, shown, self._does(number), number in self.wrong))
        return rows

    def _does(self, number: int) -> str:
        if number in self.wrong:
            return "; ".join(f"{fault.column}: {fault.wrong}" for fault in self.wrong[number])
        effect = self.rehearsal.effects.get(number)
        if effect and effect.fields:
            return f"changes {', '.join(effect.fields)}"
        return SHOWN[effect.kind] if effect else ""

    def _shown(self, name: str, value: str) -> str:
        """A value: what is referred to by its name, and whether it would be made."""
        column, made = self.kind.column(name), self.prepared.accounts
        if not value:
            return ""
        if column.kind in DAYS:
            return day(date.fromisoformat(value[:10]))
        if column.kind in MONEY:
            minor = Decimal(value).scaleb(currency_decimals())
            return money(int(minor)) if minor == int(minor) else value
        if column.kind != "ref":
            return value
        if value in made:
            return f"{made[value]['name']} (new)"
        known_name = MODELS[column.target].objects.filter(key=value).values_list("name", flat=True).first()
        return known_name or value

    def examples(self, kinds: tuple[str, ...]) -> list[str]:
        """The first differing cells of these kinds beside what they are read as."""
        examples: list[str] = []
        matched = (
            (self.kind.column(name), self.table.header.index(self.matching.columns[name])) for name in self.names
        )
        for column, index in matched:
            if column.kind not in kinds:
                continue
            for number, cells in self.table.rows:
                typed, value = cells[index].strip(), self.read.get(number, {}).get(column.name, "")
                words = f"{typed} → {self._shown(column.name, value)}"
                if typed and value and words not in examples:
                    examples.append(words)
                if len(examples) == EXAMPLES:
                    return examples
        return examples


def preview(kind: Kind, table: UploadedTable, matching: Matching, now: datetime, show: str) -> Preview:
    """Try the first rows (up to 3,000) with nothing kept; `show` leaves only the rows of one effect."""
    first = UploadedTable(table.header, table.rows[:TRIED_ROWS])
    prepared = Preparer(kind, matching, now).run(first)
    is_matched = all(name in matching.columns for name in kind.needed)
    rehearsal = rehearse(kind, prepared, matching, now) if is_matched else Rehearsal(faults=prepared.faults)
    tried = _Tried(kind, first, matching, prepared, rehearsal)
    counts = Counter(tried.effects[number] for number, _ in first.rows if number in tried.effects)
    used = matching.columns.values()
    return Preview(
        tried=len(first.rows),
        cut=len(table.rows) > len(first.rows),
        choices=[(key, words, counts[key], key == show) for key, words in SHOWN.items() if counts[key]],
        accounts=rehearsal.accounts,
        faults=_kinds_of(rehearsal.faults),
        names=[kind.words(name) for name in tried.names],
        rows=tried.rows(show if show in SHOWN else ""),
        left_out=[heading for heading in table.header if heading and heading not in used],
        examples={"dates": tried.examples(DAYS), "numbers": tried.examples(NUMBERS)},
    )


def _kinds_of(faults: list[RowFault]) -> list[FaultKind]:
    """Faults that differ only in the value quoted are one kind; the most frequent first."""
    kinds: dict[tuple[str, str, str], list[RowFault]] = {}
    for fault in faults:
        kinds.setdefault((fault.column, re.sub("“[^”]*”", "", fault.wrong), fault.right), []).append(fault)
    fault_kinds = []
    for (column, _, right), those in sorted(kinds.items(), key=lambda item: -len(item[1])):
        numbers = [count(fault.row) if fault.row else "the file" for fault in those[:SHOWN_NUMBERS]]
        more = len(those) - len(numbers)
        rows = ", ".join(numbers) + (f" and {count(more)} more" if more else "")
        fault_kinds.append(FaultKind(column, those[0].wrong, right, rows))
    return fault_kinds
