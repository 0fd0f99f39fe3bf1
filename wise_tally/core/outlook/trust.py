"""When the outlook is to be trusted: how much past it rests on, whether the last days went as expected, and how back-tests came out."""

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.derived import Grown, derived
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints
from wise_tally.core.outlook.fit import ENOUGH_TO_CORRECT, ENOUGH_TO_SHOW, Fit, chances, fit
from wise_tally.core.outlook.moves import CACHED_LARGE
from wise_tally.core.outlook.rows import days_ahead
from wise_tally.core.reach import first_win
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import Floats
from wise_tally.core.trees import NONE

# Decided deals from which the outlook leads.
ENOUGH_TO_LEAD = 50
MOST_OFF = 2.0
WEIGHTED, FEW, OUTLOOK, CORRECTED = "weighted", "outlook, few deals", "outlook", "outlook, with corrections"


@dataclass(frozen=True)
class LastDays:
    """How the last `days` days went: deals won of those open before them, how many were expected, and the standard deviations between."""

    days: int
    won: int
    expected: float
    off_by: float

    @property
    def usual(self) -> bool:
        """Whether what was won lies within two standard deviations of what was expected."""
        return abs(self.off_by) <= MOST_OFF


def last_days(book: Book, as_of: date, horizon: int) -> LastDays:
    """The outlook of `horizon` days ago for the days since: z = (won − expected) ÷ √(v + σ²v²), v the sum of p(1 − p)."""
    deal, chance, shock = _given_then(book, as_of, horizon)
    won = int((first_win(book)[0][deal] < midnight_ending(as_of, book.reference.time_zone)).sum())
    expected, spread = float(chance.sum()), float((chance * (1 - chance)).sum())
    deviation = np.sqrt(max(spread + (shock * spread) ** 2, 1e-9))
    return LastDays(horizon, won, expected, float((won - expected) / deviation))


def _same_then(known: tuple[Ints, Floats, float], grown: Grown, as_of: date, horizon: int) -> Any:
    began = midnight_ending(as_of - timedelta(days=horizon), grown.new.reference.time_zone)
    return known if grown.growth.same_known and (grown.growth.moments >= began).all() else None


@derived(_same_then, most=CACHED_LARGE)
def _given_then(book: Book, as_of: date, horizon: int) -> tuple[Ints, Floats, float]:
    """The deals open `horizon` days ago, the chances they were given, and how far days sway together."""
    then = book.looked_back(as_of - timedelta(days=horizon))
    learnt = fit(book, then.as_of, horizon)
    given = chances(book, then, learnt)
    return given.states.deal, given.chance, learnt.shock


@dataclass(frozen=True)
class Trust:
    """What leads, `leads` one of WEIGHTED, FEW, OUTLOOK and CORRECTED; the closed deals it rests on; the last days where they were judged;
    and whose back-test was better where one was.
    """

    leads: str
    decided: int
    process: int
    last_days: LastDays | None = None
    beaten_by: str = ""
    over: bool = False

    @property
    def shown(self) -> bool:
        """Whether there is an outlook at all: fewer than 20 closed deals teach nothing."""
        return self.decided >= ENOUGH_TO_SHOW

    @property
    def outlook_leads(self) -> bool:
        """Whether the outlook stands before weighted."""
        return self.leads in (OUTLOOK, CORRECTED)


def trust(book: Book, snapshot: BookAsOf, period: Period, scope: Filter, beaten_by: str = "") -> Trust:
    """What leads in a scope, by the process that holds most of its open money; `beaten_by` names what did better in its back-test."""
    horizon = days_ahead(snapshot, period)[1]
    learnt = fit(book, snapshot.as_of, horizon)
    process = _main_process(book, snapshot, scope)
    decided = int(learnt.decided[process]) if process != NONE else 0
    if decided < ENOUGH_TO_SHOW or not horizon:
        return Trust(WEIGHTED, decided, process, over=not horizon)
    lately = _judged(book, snapshot, horizon, process)
    if (lately and not lately.usual) or beaten_by:
        return Trust(WEIGHTED, decided, process, lately, beaten_by)
    return Trust(_level(learnt, process), decided, process, lately)


def _level(learnt: Fit, process: int) -> str:
    decided = learnt.decided[process]
    if decided < ENOUGH_TO_LEAD:
        return FEW
    return CORRECTED if decided >= ENOUGH_TO_CORRECT and learnt.is_corrected[process] else OUTLOOK


def _judged(book: Book, snapshot: BookAsOf, horizon: int, process: int) -> LastDays | None:
    """The last days, where enough was decided before them to expect anything."""
    before = fit(book, snapshot.as_of - timedelta(days=horizon), horizon)
    return last_days(book, snapshot.as_of, horizon) if before.decided[process] >= ENOUGH_TO_SHOW else None


def _main_process(book: Book, snapshot: BookAsOf, scope: Filter) -> int:
    """The process asked for, else the one with most open money; the first without any."""
    if scope.process != NONE or not book.reference.processes:
        return scope.process
    is_open = snapshot.kind == OPEN
    money = np.bincount(
        book.deals.process[snapshot.deal[is_open]], snapshot.amount_minor[is_open], len(book.reference.processes)
    )
    return int(money.argmax())
