"""Filters of the list: clauses of column, test and value, in groups; a deal fits each group in one of its clauses."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from functools import reduce
from operator import or_

import numpy as np
from django.db.models import Q
from django.http import QueryDict

from wise_tally.core.book import Flags
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.money import Ints
from wise_tally.domain.formats import currency_decimals
from wise_tally.domain.org.typed_days import typed_day, typed_span
from wise_tally.domain.typed_numbers import typed_money, typed_number, typed_percent
from wise_tally.pages.deals.columns import Column
from wise_tally.web import deal_columns
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused

TESTS = {
    "in": "is in",
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
    "day": ("in", "from", "to", "is", "is_not", "empty", "filled"),
}
NUMBERS = ("is", "is_not", "from", "to", "empty", "filled")
WITHOUT_VALUE = ("empty", "filled")
MOST = 12
JOINS = ("all", "any")
SEVERAL = "|"


@dataclass(frozen=True)
class Clause:
    """One filter as typed. A choice may have several values; clauses of one group are alternatives."""

    column: Column
    test: str
    value: str
    group: str = ""

    @property
    def text(self) -> str:
        """The clause as the address carries it."""
        return f"{self.group}~{self.bare}" if self.group else self.bare

    @property
    def bare(self) -> str:
        """The same without its group."""
        return f"{self.column.name}:{self.test}:{self.value}"

    @property
    def values(self) -> list[str]:
        """The values of a choice."""
        return self.value.split(SEVERAL)

    @property
    def words(self) -> str:
        """The clause as people read it."""
        shown = " or ".join(self.values) if self.column.kind == "choice" else self.value
        return f"{self.column.words} {TESTS[self.test]} {shown}".strip()


@dataclass(frozen=True)
class FaultyClause:
    """A filter of an address that cannot be applied, and why."""

    text: str
    message: str


@dataclass(frozen=True)
class NewFilter:
    """The form for one more filter, or for another in the place of one: its column, what is typed, what is wrong."""

    column: Column
    test: str = ""
    value: str = ""
    group: str = ""
    instead: str = ""
    fault: str = ""

    @property
    def tests(self) -> list[tuple[str, str]]:
        """The tests that fit the column."""
        return [(name, TESTS[name]) for name in OF_KIND.get(self.column.kind, NUMBERS)]

    @property
    def values(self) -> list[str]:
        """The values chosen so far."""
        return self.value.split(SEVERAL)


def read_clauses(
    given: QueryDict, columns: dict[str, Column], line: FilterLine
) -> tuple[list[Clause], list[FaultyClause], NewFilter | None]:
    """The clauses of an address, those that cannot be applied, and the form for a new one where it is asked for.

    The form's own fields are new_column, new_test and new_value; new_instead names the clause that it replaces.
    """
    texts = [text for text in given.getlist("f") if text]
    new, form = _new_clause(given, columns, line)
    if new:
        instead = given.get("new_instead", "")
        texts = [new.text if text == instead else text for text in texts] if instead in texts else [*texts, new.text]
    clauses: list[Clause] = []
    faulty: list[FaultyClause] = []
    for text in texts:
        try:
            clauses.append(_read_clause(text, columns, line))
        except Refused as refused:
            faulty.append(FaultyClause(text, str(refused)))
    if len(texts) > MOST:
        raise Refused(f"Too many filters ({len(texts)}). Use up to {MOST}.")
    return clauses, faulty, form


def _new_clause(
    given: QueryDict, columns: dict[str, Column], line: FilterLine
) -> tuple[Clause | None, NewFilter | None]:
    """What the form for a filter says: a clause, or the form again with what is wrong."""
    if opened := given.get("new_open", ""):
        try:
            one = _read_clause(opened, columns, line)
        except Refused:
            return None, None
        return None, NewFilter(one.column, one.test, one.value, one.group, opened)
    column = columns.get(given.get("new_column", ""))
    if column is None:
        return None, None
    test, value = given.get("new_test", ""), SEVERAL.join(filter(None, given.getlist("new_value")))
    form = NewFilter(column, test, value, given.get("new_group", "")[:1], given.get("new_instead", ""))
    if not test:
        return None, form
    try:
        clause = _read_clause(f"{column.name}:{test}:{value}", columns, line)
        return replace(clause, group=form.group), None
    except Refused as refused:
        return None, replace(form, fault=str(refused))


def _read_clause(text: str, columns: dict[str, Column], line: FilterLine) -> Clause:
    """A clause of an address whose value is understood; raises Refused."""
    group, sign, rest = text.partition("~")
    if not sign or len(group) > 1:
        group, rest = "", text
    name, _, rest = rest.partition(":")
    test, _, value = rest.partition(":")
    clause = replace(_clause(columns, name, test, value), group=group)
    if test in WITHOUT_VALUE:
        return clause
    kind = clause.column.kind
    if kind == "choice":
        _places(line, clause)
    elif kind == "day":
        _days_of(clause, line)
    elif kind != "text":
        number_of(clause)
    return clause


def _clause(columns: dict[str, Column], name: str, test: str, value: str) -> Clause:
    one_of(name, columns, "is not a column")
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
    """Which of the deals at these places fit every group in one of its clauses; with “any” those without one are one."""
    if not clauses:
        return np.ones(len(rows), dtype=bool)
    groups: dict[str, list[Flags]] = {}
    for number, clause in enumerate(clauses):
        alone = "any" if join == "any" else f"alone {number}"
        groups.setdefault(clause.group or alone, []).append(_flags(line, rows, clause))
    return np.asarray(np.all([np.any(flags, axis=0) for flags in groups.values()], axis=0))


def _flags(line: FilterLine, rows: Ints, clause: Clause) -> Flags:
    column = clause.column
    if column.texts:
        return _by_text(line, rows, clause, column.texts(line))
    if column.field:
        return deal_columns.deals_where(line, _query(clause, line))[line.snapshot.deal[rows]]
    assert column.values is not None
    values = column.values(line, rows)
    if column.kind == "choice":
        return _choice(line, values, clause)
    missing = _missing(column.kind, values)
    if clause.test in WITHOUT_VALUE:
        return missing if clause.test == "empty" else ~missing
    return ~missing & _compared(values, clause, line)


def _missing(kind: str, values: np.ndarray) -> Flags:
    if kind == "day":
        return np.asarray((values == NO_DAY) | (values == 0))
    return np.asarray(np.isnan(values) if values.dtype.kind == "f" else values == deal_columns.NOTHING)


def _compared(values: np.ndarray, clause: Clause, line: FilterLine) -> Flags:
    number = 0.0 if clause.column.kind == "day" else number_of(clause)
    first, last = _days_of(clause, line) if clause.column.kind == "day" else (number, number)
    within = (values >= first) & (values <= last)
    tests = {"in": within, "is": within, "is_not": ~within, "from": values >= first, "to": values <= last}
    return np.asarray(tests[clause.test])


def number_of(clause: Clause) -> float:
    """The typed value as the column keeps it; raises Refused with what is accepted."""
    kind, text = clause.column.kind, clause.value
    value: int | Decimal | str
    if kind in ("money", "percent"):
        value = typed_money(text, currency_decimals()) if kind == "money" else typed_percent(text)
    else:
        value = typed_number(text)
    if isinstance(value, str):
        raise Refused(f"{clause.column.words}: {value}")
    return float(value)


def _days_of(clause: Clause, line: FilterLine) -> tuple[int, int]:
    """First and last day (ordinals) that a value means: one day, or a span; raises Refused with what is accepted."""
    read = typed_span(clause.value, line.as_of) if clause.test == "in" else typed_day(clause.value)
    if isinstance(read, str):
        raise Refused(f"{clause.column.words}: {read}")
    first, last = read if isinstance(read, tuple) else (read, read)
    return first.toordinal(), last.toordinal()


def _places(line: FilterLine, clause: Clause) -> list[int]:
    """The places of a choice's values among the names, by name or identifier, whatever the case; raises Refused."""
    assert clause.column.names is not None
    names = clause.column.names(line)
    chosen: list[int] = []
    for value in clause.values:
        wanted = value.casefold()
        places = [i for i, (key, name) in enumerate(names) if wanted in (key.casefold(), name.casefold())]
        if not places:
            accepted = ", ".join(dict.fromkeys(name for _, name in names[:40]))
            raise Refused(f"{clause.column.words} “{value[:60]}” not found. Choose one of: {accepted or 'none yet'}.")
        chosen += places
    return chosen


def _choice(line: FilterLine, values: np.ndarray, clause: Clause) -> Flags:
    """A choice by name or identifier, whatever the case."""
    if clause.test in WITHOUT_VALUE:
        return np.asarray(values < 0 if clause.test == "empty" else values >= 0)
    chosen = np.isin(values, _places(line, clause))
    return np.asarray(chosen if clause.test == "is" else ~chosen)


def _query(clause: Clause, line: FilterLine) -> Q:
    """A clause about a column of the deals' table."""
    path, text = clause.column.field, clause.value
    if clause.column.kind == "day":
        if clause.test in WITHOUT_VALUE:
            return Q(**{f"{path}__isnull": clause.test == "empty"})
        first, last = (date.fromordinal(day) for day in _days_of(clause, line))
        from_first, to_last = Q(**{f"{path}__gte": first}), Q(**{f"{path}__lte": last})
        condition = {"from": from_first, "to": to_last}.get(clause.test, from_first & to_last)
        return ~condition & Q(**{f"{path}__isnull": False}) if clause.test == "is_not" else condition
    related, _, name = path.partition("__")
    if name:
        tests = {"has": "name__icontains", "is": "name__iexact", "is_not": "name__iexact"}
        if clause.test in WITHOUT_VALUE:
            return Q(**{f"{related}__isnull": clause.test == "empty"})
        matching = _any_of(
            deal_columns.with_related(related, **{tests[clause.test]: one}) for one in _typed_apart(text)
        )
        return matching if clause.test != "is_not" else ~matching
    if clause.test in WITHOUT_VALUE:
        return Q(**{path: ""}) if clause.test == "empty" else ~Q(**{path: ""})
    test = "icontains" if clause.test == "has" else "iexact"
    condition = _any_of(Q(**{f"{path}__{test}": one}) for one in _typed_apart(text))
    return condition if clause.test != "is_not" else ~condition


def _typed_apart(text: str) -> list[str]:
    """The texts of a value: several stand apart by semicolons, each found by itself."""
    return [one.strip() for one in text.split(";") if one.strip()] or [text]


def _any_of(queries: Iterable[Q]) -> Q:
    return reduce(or_, queries)


def _by_text(line: FilterLine, rows: Ints, clause: Clause, values: dict[int, str]) -> Flags:
    """A clause about texts by deal; deals without one are only empty."""
    wanted = clause.value.casefold()
    mask = np.zeros(len(line.book.deals.key), dtype=bool)
    places = np.array(list(values), dtype=np.int64)
    if clause.test in WITHOUT_VALUE:
        mask[places] = True
    elif clause.column.kind == "text":
        mask[places] = [_text_holds(clause.test, text.casefold(), wanted) for text in values.values()]
    else:
        is_day = clause.column.kind == "day"
        numbers = [date.fromisoformat(text).toordinal() if is_day else float(text) for text in values.values()]
        mask[places] = _compared(np.array(numbers, dtype=float), clause, line)
    if clause.test == "empty":
        mask = ~mask
    if clause.test == "is_not" and clause.column.kind == "text":
        without = np.ones(len(mask), dtype=bool)
        without[list(values)] = False
        mask |= without
    return mask[line.snapshot.deal[rows]]


def _text_holds(test: str, plain: str, wanted: str) -> bool:
    return {"has": wanted in plain, "is": plain == wanted, "is_not": plain != wanted}[test]
