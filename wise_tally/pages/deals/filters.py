"""Filters of the list: clauses of column, test and value, joined by all or any."""

from dataclasses import dataclass
from datetime import date

import numpy as np
from django.db.models import Q
from django.http import QueryDict

from wise_tally.core.book import Flags
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.money import Ints
from wise_tally.domain.formats import currency_decimals
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.typed_numbers import typed_money, typed_number, typed_percent
from wise_tally.pages.deals.columns import Column
from wise_tally.web import deal_columns
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused

TESTS = {
    "is": "is",
    "is_not": "is not",
    "has": "contains",
    "from": "is at least",
    "to": "is at most",
    "empty": "is empty",
    "filled": "is filled",
}
OF_KIND = {
    "text": ("has", "is", "is_not", "empty", "filled"),
    "choice": ("is", "is_not", "empty", "filled"),
}
NUMBERS = ("is", "is_not", "from", "to", "empty", "filled")
WITHOUT_VALUE = ("empty", "filled")
MOST = 12
JOINS = ("all", "any")


@dataclass(frozen=True)
class Clause:
    """One filter as typed."""

    column: Column
    test: str
    value: str

    @property
    def text(self) -> str:
        """The clause as the address carries it."""
        return f"{self.column.name}:{self.test}:{self.value}"

    @property
    def words(self) -> str:
        """The clause as people read it."""
        return f"{self.column.words} {TESTS[self.test]} {self.value}".strip()


def read_clauses(given: QueryDict, columns: dict[str, Column]) -> list[Clause]:
    """The clauses of an address; raises Refused naming what is accepted."""
    found = []
    for text in given.getlist("f"):
        name, _, rest = text.partition(":")
        test, _, value = rest.partition(":")
        if name and test:
            found.append(_clause(columns, name, test, value))
    # The form's empty row comes as three fields of their own.
    if name := given.get("new_column", ""):
        found.append(_clause(columns, name, given.get("new_test", ""), given.get("new_value", "")))
    if len(found) > MOST:
        raise Refused(f"Too many filters ({len(found)}). Use up to {MOST}.")
    return found


def _clause(columns: dict[str, Column], name: str, test: str, value: str) -> Clause:
    one_of(name, columns, "is no column")
    column = columns[name]
    accepted = OF_KIND.get(column.kind, NUMBERS)
    if test not in accepted:
        words = ", ".join(TESTS[one] for one in accepted)
        raise Refused(f"“{TESTS.get(test, test[:40])}” cannot be used with {column.words}. Choose one of: {words}.")
    value = value.strip()[:200]
    if test in WITHOUT_VALUE:
        value = ""
    elif not value:
        raise Refused(f"Enter a value for “{column.words} {TESTS[test]}”.")
    return Clause(column, test, value)


def matching(line: FilterLine, rows: Ints, clauses: list[Clause], join: str) -> Flags:
    """Which of the deals at these places all (or any) of the clauses keep."""
    if not clauses:
        return np.ones(len(rows), dtype=bool)
    flags = np.stack([_flags(line, rows, clause) for clause in clauses])
    return np.asarray(flags.all(axis=0) if join == "all" else flags.any(axis=0))


def _flags(line: FilterLine, rows: Ints, clause: Clause) -> Flags:
    column = clause.column
    if column.texts:
        return _by_text(line, rows, clause, column.texts(line))
    if column.field:
        return deal_columns.deals_where(line, _query(clause))[line.snapshot.deal[rows]]
    assert column.values is not None
    values = column.values(line, rows)
    if column.kind == "choice":
        return _choice(line, values, clause)
    missing = _missing(column.kind, values)
    if clause.test in WITHOUT_VALUE:
        return missing if clause.test == "empty" else ~missing
    return ~missing & _compared(values, clause)


def _missing(kind: str, values: np.ndarray) -> Flags:
    if kind == "day":
        return np.asarray((values == NO_DAY) | (values == 0))
    return np.asarray(np.isnan(values) if values.dtype.kind == "f" else values == deal_columns.NOTHING)


def _compared(values: np.ndarray, clause: Clause) -> Flags:
    wanted = number_of(clause)
    tests = {"is": values == wanted, "is_not": values != wanted, "from": values >= wanted, "to": values <= wanted}
    return np.asarray(tests[clause.test])


def number_of(clause: Clause) -> float:
    """The typed value as the column keeps it; raises Refused with what is accepted."""
    kind, text = clause.column.kind, clause.value
    if kind == "day":
        return _day_of(clause).toordinal()
    if kind in ("money", "percent"):
        value = typed_money(text, currency_decimals()) if kind == "money" else typed_percent(text)
        if isinstance(value, str):
            raise Refused(f"{clause.column.words}: {value}")
        return value
    number = typed_number(text)
    if isinstance(number, str):
        raise Refused(f"{clause.column.words}: {number}")
    return float(number)


def _day_of(clause: Clause) -> date:
    day = typed_day(clause.value)
    if isinstance(day, str):
        raise Refused(f"{clause.column.words}: {day}")
    return day


def _choice(line: FilterLine, values: np.ndarray, clause: Clause) -> Flags:
    """A choice by name or identifier, whatever the case."""
    if clause.test in WITHOUT_VALUE:
        return np.asarray(values < 0 if clause.test == "empty" else values >= 0)
    assert clause.column.names is not None
    names = clause.column.names(line)
    wanted = clause.value.casefold()
    indices = [i for i, (key, name) in enumerate(names) if wanted in (key.casefold(), name.casefold())]
    if not indices:
        accepted = ", ".join(dict.fromkeys(name for _, name in names[:40]))
        raise Refused(
            f"{clause.column.words} “{clause.value[:60]}” not found. Choose one of: {accepted or 'none yet'}."
        )
    found = np.isin(values, indices)
    return np.asarray(found if clause.test == "is" else ~found)


def _query(clause: Clause) -> Q:
    """A clause about a column of the deals' table."""
    path, text = clause.column.field, clause.value
    if clause.column.kind == "day":
        if clause.test in WITHOUT_VALUE:
            return Q(**{f"{path}__isnull": clause.test == "empty"})
        tests = {"is": "", "is_not": "", "from": "__gte", "to": "__lte"}
        found = Q(**{f"{path}{tests[clause.test]}": _day_of(clause)})
        return ~found & Q(**{f"{path}__isnull": False}) if clause.test == "is_not" else found
    related, _, name = path.partition("__")
    if name:
        tests = {"has": "name__icontains", "is": "name__iexact", "is_not": "name__iexact"}
        if clause.test in WITHOUT_VALUE:
            return Q(**{f"{related}__isnull": clause.test == "empty"})
        called = deal_columns.with_related(related, **{tests[clause.test]: text})
        return called if clause.test != "is_not" else ~called
    queries = {"has": Q(**{f"{path}__icontains": text}), "is": Q(**{f"{path}__iexact": text}), "empty": Q(**{path: ""})}
    queries |= {"is_not": ~Q(**{f"{path}__iexact": text}), "filled": ~Q(**{path: ""})}
    return queries[clause.test]


def _by_text(line: FilterLine, rows: Ints, clause: Clause, values: dict[int, str]) -> Flags:
    """A clause about texts by deal; deals without one are only empty."""
    wanted = clause.value.casefold()
    mask = np.zeros(len(line.book.deals.key), dtype=bool)
    number = number_of(clause) if clause.column.kind in ("count", "day") and clause.value else 0.0
    for index, text in values.items():
        mask[index] = _text_holds(clause, text, wanted, number)
    if clause.test == "empty":
        mask = ~mask
    if clause.test == "is_not" and clause.column.kind == "text":
        without = np.ones(len(mask), dtype=bool)
        without[list(values)] = False
        mask |= without
    return mask[line.snapshot.deal[rows]]


def _text_holds(clause: Clause, text: str, wanted: str, number: float) -> bool:
    if clause.test in WITHOUT_VALUE:
        return True
    if clause.column.kind == "text":
        plain = text.casefold()
        return {"has": wanted in plain, "is": plain == wanted, "is_not": plain != wanted}[clause.test]
    value = float(text) if clause.column.kind == "count" else float(date.fromisoformat(text).toordinal())
    return {"is": value == number, "is_not": value != number, "from": value >= number, "to": value <= number}[
        clause.test
    ]
