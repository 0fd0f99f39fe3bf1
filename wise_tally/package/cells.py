"""Cells: text to values and back, with faults that say what is wrong and what would be right.

Kept values: money in minor units, percent in basis points, days typical in hundredths, dates as ordinals,
moments in seconds since 1970 UTC.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from wise_tally.package.tables import Column

NUMBER = re.compile(r"(-?)(\d+)(?:\.(\d+))?", re.ASCII)
DATE = re.compile(r"\d{4}-\d{2}-\d{2}", re.ASCII)
MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(:\d{2}(\.0+)?)?(Z|[+-]\d{2}:\d{2})", re.ASCII)
LENGTHS = {"id": 64, "ref": 64, "name": 200, "text": 10_000}
MOST_DIGITS = 11
YEARS = range(1900, 2200)


@dataclass(frozen=True)
class CellFault:
    """What is wrong with a cell, and what would be right."""

    wrong: str
    right: str


def shown(cell: str) -> str:
    """A cell as quoted in a message, shortened."""
    return f"“{cell[:40]}…”" if len(cell) > 40 else f"“{cell}”"


class CellReader(dict[str, Any]):
    """Reads the cells of one column, each distinct text once; a fault is kept in place of the value."""

    def __init__(self, column: Column, decimals: int) -> None:
        super().__init__()
        self.column, self.decimals = column, decimals
        self.parse: Callable[[str], Any] = self._parser()

    def __missing__(self, cell: str) -> Any:
        value = self._read(cell)
        self[cell] = value
        return value

    def _read(self, cell: str) -> Any:
        if "\0" in cell:
            return CellFault("the cell holds a NUL byte", "text without NUL bytes")
        if cell == "":
            if self.column.required:
                return CellFault("the required cell is empty", "a value")
            return "" if self.column.kind in ("text", "name", "word") else None
        limit = LENGTHS.get(self.column.kind)
        if self.column.name in ("subject_id", "changed_by"):
            limit = 64
        if limit and len(cell) > limit:
            return CellFault(f"the cell has {len(cell)} characters", f"at most {limit} characters")
        return self.parse(cell)

    def _parser(self) -> Callable[[str], Any]:
        kind = self.column.kind
        if kind in ("name", "text"):
            return self._identifier if self.column.name in ("subject_id", "changed_by") else (lambda cell: cell)
        plain = {"id": self._identifier, "ref": self._identifier, "flag": self._flag, "word": self._word}
        more = {"date": self._date, "moment": self._moment, "percent": self._percent, "whole": self._whole}
        parsers: dict[str, Callable[[str], Any]] = {**plain, **more, "days": lambda cell: self._number(cell, 2)}
        parsers["number"] = lambda cell: self._number(cell, 4)
        parsers["money"] = lambda cell: self._number(cell, self.decimals)
        parsers["signed_money"] = lambda cell: self._number(cell, self.decimals, signed=True)
        return parsers[kind]

    def _identifier(self, cell: str) -> Any:
        if cell != cell.strip():
            return CellFault(f"{shown(cell)} has white space around it", "the identifier without it")
        return cell

    def _flag(self, cell: str) -> Any:
        return {"true": True, "false": False}.get(cell, CellFault(f"{shown(cell)} is not accepted", "true or false"))

    def _word(self, cell: str) -> Any:
        if cell in self.column.words:
            return cell
        return CellFault(f"{shown(cell)} is not accepted", "one of " + " / ".join(self.column.words))

    def _date(self, cell: str) -> Any:
        try:
            if DATE.fullmatch(cell) and (day := date.fromisoformat(cell)).year in YEARS:
                return day.toordinal()
        except ValueError:
            pass
        return CellFault(f"{shown(cell)} is not a date", "YYYY-MM-DD from 1900 to 2199")

    def _moment(self, cell: str) -> Any:
        try:
            if MOMENT.fullmatch(cell) and (moment := datetime.fromisoformat(cell)).year in YEARS:
                return int(moment.timestamp())
        except ValueError:
            pass
        return CellFault(
            f"{shown(cell)} is not a date-time with offset", "such as 2026-04-01T09:30:00+01:00 in whole seconds"
        )

    def _percent(self, cell: str) -> Any:
        value = self._number(cell, 2, signed=True)
        if isinstance(value, int) and not 0 <= value <= 10_000:
            return CellFault(f"{shown(cell)} is outside 0 to 100", "a percentage from 0 to 100")
        return value

    def _whole(self, cell: str) -> Any:
        return self._number(cell, 0, signed=self.column.name != "times")

    def _number(self, cell: str, decimals: int, signed: bool = False) -> Any:
        return number(cell, decimals, signed)


def number(cell: str, decimals: int, signed: bool = False) -> int | CellFault:
    """A plain number scaled by 10^decimals, or what is wrong with it."""
    accepted = f"plain digits with at most {decimals} decimals" if decimals else "a whole number in plain digits"
    match = NUMBER.fullmatch(cell)
    if not match:
        return CellFault(f"{shown(cell)} is not a number", f"{accepted} and “.” as decimal mark")
    sign, digits, fraction = match[1], match[2], match[3] or ""
    if sign and not signed:
        return CellFault(f"{shown(cell)} is negative", "0 or more")
    if len(digits) > MOST_DIGITS:
        return CellFault(f"{shown(cell)} has more than {MOST_DIGITS} digits before the mark", "a smaller number")
    if len(fraction) > decimals:
        return CellFault(f"{shown(cell)} has more decimals than allowed", accepted)
    value = int(digits + fraction.ljust(decimals, "0"))
    return -value if sign else value


def scaled(value: int, decimals: int, trim: bool = False) -> str:
    """A scaled integer as plain digits; `trim` drops zeros at the end."""
    sign, digits = ("-" if value < 0 else ""), str(abs(value)).rjust(decimals + 1, "0")
    if not decimals:
        return sign + digits
    whole, fraction = digits[:-decimals], digits[-decimals:]
    if trim:
        fraction = fraction.rstrip("0")
    return f"{sign}{whole}.{fraction}" if fraction else sign + whole


class CellWriter:
    """Writes values as the models give them (dates, moments, scaled integers) as cells."""

    def __init__(self, decimals: int, time_zone: str) -> None:
        self.decimals, self.zone = decimals, ZoneInfo(time_zone)

    def write(self, column: Column, value: Any) -> str:
        """The cell of a value."""
        if value is None or value == "":
            return ""
        kind = column.kind
        if kind == "flag":
            return "true" if value else "false"
        if kind == "date":
            return str(value.isoformat())
        if kind == "moment":
            return str(value.astimezone(self.zone).isoformat())
        if kind in ("money", "signed_money"):
            return scaled(value, self.decimals)
        if kind in ("percent", "days"):
            return scaled(value, 2, trim=True)
        if kind == "number":
            return scaled(value, 4, trim=True)
        return str(value)
