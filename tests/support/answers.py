"""Rows of figures by key, asked of the core alone: money in minor units."""

import re
from dataclasses import fields
from datetime import date

from wise_tally.core.attainment import attainment
from wise_tally.core.bridge import bridge
from wise_tally.core.conversion import ConversionOptions, conversion
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.time_in_stage import days_to_win, time_in_stage
from wise_tally.core.trees import NONE


def scope_of(book, process=None, team=None, person=None, territory=None):
    """A filter by identifiers."""
    reference = book.reference
    tables = (reference.processes, reference.teams, reference.people, reference.territories)
    keys = [[one[0] if isinstance(one, tuple) else one.key for one in table] for table in tables]
    asked = (process, team, person, territory)
    return Filter(*(NONE if key is None else found.index(key) for key, found in zip(asked, keys, strict=True)))


def plain(record):
    """A record as a dict of its fields."""
    return {one.name: getattr(record, one.name) for one in fields(record)}


def ask(book, figure, span, day, by="company", options=None, *, since=None, measure="weighted", calls=False, **scope):
    """Rows of a figure by key (by stage and key where it has stages and a breakdown), conversion's totals under "scope"."""
    as_of = date.fromisoformat(day) if isinstance(day, str) else day
    given = (book, book.as_of(as_of), book.reference.fiscal.parse(span), scope_of(book, **scope))
    stages = [stage.key for stage in book.reference.stages]
    if figure == "forecast":
        return {row.key: plain(row) for row in forecast(*given, by, calls)}
    if figure == "attainment":
        return {row.forecast.key: plain(row) for row in attainment(*given, by)}
    if figure == "days-to-win":
        return {row.key: plain(row) for row in days_to_win(*given, by)}
    if figure == "bridge":
        return {row.cause: row.amount_minor for row in bridge(book, book.as_of(since), *given[1:], measure)}
    if figure == "conversion":
        process = Filter(0, *list(plain(given[3]).values())[1:4])
        groups = conversion(*given[:3], process, options or ConversionOptions(), by)
        found = {"scope": groups[0].totals}
    else:
        groups, found = {"time-in-stage": time_in_stage, "set-and-seen": probability_check}[figure](*given, by), {}
    for group in groups:
        for row in group.stages:
            key = stages[row.stage]
            found[key if by == "company" else (key, group.key)] = plain(row)
    return found


def text(answer) -> str:
    """What a page or a file says; a page with its runs of white space as one space each, as a browser shows them."""
    said = answer.content.decode()
    return re.sub(r"[ \n]+", " ", said) if "html" in answer["Content-Type"] else said
