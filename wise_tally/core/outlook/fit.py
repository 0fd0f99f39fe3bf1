"""The fit: all that the outlook learns from the book up to a day, for a number of days ahead; and the chances it gives open deals."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints
from wise_tally.core.outlook.amounts import ratio_at_winning
from wise_tally.core.outlook.chance_by_age import chance_by_age
from wise_tally.core.outlook.common_shock import WITHOUT_PAST, common_shock
from wise_tally.core.outlook.corrections import (
    Corrections,
    chance_of,
    learnt_corrections,
    log_odds,
    shifts_of_deals,
)
from wise_tally.core.outlook.moves import (
    AGES,
    CACHED_FITS,
    LOOK_BACK_DAYS,
    Weights,
    daily_rates,
    decided_deals,
    observed_stays,
    whole_days,
)
from wise_tally.core.outlook.open_deal_states import FIRST_DAYS, OpenDealStates, open_deals_on, past_open_deals
from wise_tally.core.outlook.still_to_come import StillToCome, still_to_come
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.stays import Stays, recounting

# Decided deals of a process from which there are chances, and from which they are corrected.
ENOUGH_TO_SHOW, ENOUGH_TO_CORRECT = 20, 200


# The open stages of a process, and their daily rates of shape (n, n + 2, 721).
Rates = tuple[tuple[int, ...], Floats]


def chance_of_stages(rates: Sequence[Rates], horizons: Sequence[int], stages: int) -> Floats:
    """The chance by stage and age to be won within each horizon, shape (horizons, stages, 721)."""
    chance = np.zeros((len(horizons), stages, AGES))
    for own, daily in rates:
        chance[:, list(own)] = chance_by_age(daily, horizons)
    return chance


@dataclass(frozen=True)
class Fit:
    """What was learnt for `horizon` days ahead: each process's open stages with their daily rates, chance by stage and age (stages, 721),
    amount at winning by stage, closed deals by process, stays that tell their outcome by stage, which processes are corrected,
    corrections, the shock's σ, deals still to come.
    """

    horizon: int
    rates: tuple[Rates, ...]
    chance: Floats
    ratio: Floats
    decided: Ints
    like: Ints
    is_corrected: Flags
    corrections: Corrections
    shock: float
    to_come: StillToCome


def _same_moves(learnt: Fit, grown: Grown, as_of: date, horizon: int) -> Fit | None:
    """A fit holds when what came or went before the day's end neither moved a deal, nor won one, nor reaches back to a landmark."""
    cut = midnight_ending(as_of, grown.new.reference.time_zone)
    changes = ((grown.new, grown.growth.rows), (grown.old, grown.growth.gone))
    return (
        learnt if grown.growth.same_known and all(_tells_nothing(*change, cut, horizon) for change in changes) else None
    )


def _tells_nothing(book: Book, rows: Ints, cut: int, horizon: int) -> bool:
    rev = book.revisions
    rows = rows[rev.effective_at[rows] < cut]
    stays_put = (rows > 0) & (rev.deal[rows] == rev.deal[rows - 1]) & (rev.stage[rows] == rev.stage[rows - 1])
    still_open = book.reference.stage_kind[rev.stage[rows]] == OPEN
    late = rev.effective_at[rows] >= cut - horizon * DAY_SECONDS
    return bool((stays_put & still_open & late).all())


def _begun(book: Book, stays: Stays, cut: int, horizon: int) -> Ints:
    entered = stays.entered_at
    rows = (entered <= cut - horizon * DAY_SECONDS) & (entered >= cut - LOOK_BACK_DAYS * DAY_SECONDS)
    return np.bincount(stays.stage[rows], minlength=len(book.reference.stages))


@derived(recounting(_begun), most=CACHED_FITS)
def _like(book: Book, cut: int, horizon: int) -> Ints:
    """By stage the stays of the look-back that began a horizon before the cut or earlier: those a reference class is made of."""
    return _begun(book, book.stays, cut, horizon)


@derived(_same_moves, most=CACHED_FITS)
def fit(book: Book, as_of: date, horizon: int) -> Fit:
    """What the book up to the end of a day teaches about the `horizon` days after it; later rows are not read.

    The chances of processes with 200 closed deals or more are corrected, where the history is 60 days longer than the horizon.
    """
    reference, cut = book.reference, midnight_ending(as_of, book.reference.time_zone)
    rules = reference.rules_on(as_of)
    rates = []
    for process in range(len(reference.processes)):
        stays = observed_stays(book, cut, process)
        if stays.stages:
            rates.append((stays.stages, daily_rates(stays, rules, Weights())))
    chance = chance_of_stages(rates, (horizon,), len(reference.stages))[0]
    decided = decided_deals(book, cut)
    is_corrected, corrections, shock = decided >= ENOUGH_TO_CORRECT, Corrections(), WITHOUT_PAST
    if horizon > 0 and _long_enough(book, cut, horizon):
        past = past_open_deals(book, as_of, horizon)
        before = chance[past.states.stage, whole_days(past.states.age_seconds)]
        among = is_corrected[book.deals.process[past.states.deal]]
        if among.any():
            corrections, before[among] = learnt_corrections(book, past.take(among), before[among], horizon)
        shock = common_shock(past, before)
    else:
        is_corrected = np.zeros(len(decided), dtype=bool)
    learnt = (decided, _like(book, cut, horizon), is_corrected, corrections, shock, still_to_come(book, cut, horizon))
    return Fit(horizon, tuple(rates), chance, ratio_at_winning(book, cut), *learnt)


def _long_enough(book: Book, cut: int, horizon: int) -> bool:
    return cut - book.first_entered_at >= (horizon + FIRST_DAYS) * DAY_SECONDS


@dataclass(frozen=True)
class Chances:
    """Of each open deal of a snapshot: its place there, how it stood, its chance before and after corrections, and by factor
    what shifts its log-odds; the amount (minor units) it would be won for.
    """

    places: Ints
    states: OpenDealStates
    by_age: Floats
    chance: Floats
    amount_minor: Floats
    shifts: dict[str, Floats]


def chances(book: Book, snapshot: BookAsOf, fitted: Fit) -> Chances:
    """The chances a fit gives the open deals of a snapshot of its day, also of one with supposed changes."""
    states, places = open_deals_on(book, snapshot)
    by_age = fitted.chance[states.stage, whole_days(states.age_seconds)]
    shifts: dict[str, Floats] = {}
    chance = by_age
    if fitted.corrections.shifts and fitted.horizon > 0:
        corrected = fitted.is_corrected[book.deals.process[states.deal]]
        learnt = shifts_of_deals(book, states, fitted.horizon, fitted.corrections)
        shifts = {factor: np.where(corrected, shift, 0.0) for factor, shift in learnt.items()}
        base = np.where(corrected, fitted.corrections.base, 0.0)
        chance = np.where(corrected, chance_of(log_odds(by_age) + base + sum(shifts.values())), by_age)
    return Chances(places, states, by_age, chance, states.amount_minor * fitted.ratio[states.stage], shifts)
