"""The states of open deals, now and on past days whose horizon is over (landmarks).

Source of landmarks: van Houwelingen, Dynamic Prediction by Landmarking in Event History Analysis, Scand. J. Statist. 34 (2007).
"""

from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from wise_tally.core.book import Book, BookAsOf, Flags, counted_on
from wise_tally.core.calendar import NO_DAY, midnight_ending
from wise_tally.core.deal_list import slipped, slipped_with
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints
from wise_tally.core.outlook.moves import CACHED_LARGE
from wise_tally.core.reach import first_win
from wise_tally.core.reference_data import OPEN
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.stays import FOR_EVER

DAYS_BETWEEN = 14
LANDMARK_DAYS = 365
# No landmark lies in the first days of the history: 60 of them, or a quarter of a short one.
FIRST_DAYS = 60
MOST_ROWS = 15_000


@dataclass(frozen=True)
class OpenDealStates:
    """Open deals on a day: deal, stage, seconds in the stage, days to the expected close, later moves of it,
    amount in minor units, owner. `days_to_close` is NaN for undated ones. Shape (deals,).
    """

    deal: Ints
    stage: Ints
    age_seconds: Ints
    days_to_close: Floats
    slips: Ints
    amount_minor: Ints
    owner: Ints

    def take(self, rows: Ints | Flags) -> "OpenDealStates":
        """Some of them."""
        return OpenDealStates(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))


@dataclass(frozen=True)
class Past:
    """States on all landmarks, one row a deal and landmark: days before the as-of midnight, and whether it was won in time."""

    states: OpenDealStates
    days_ago: Ints
    won: Flags

    def take(self, rows: Ints | Flags) -> "Past":
        """Some of them."""
        return Past(self.states.take(rows), self.days_ago[rows], self.won[rows])


def _mended_slips(known: Any, grown: Grown) -> Any:
    if grown.new.reference is not grown.old.reference:
        return None
    rev, rows = grown.new.revisions, grown.growth.rows
    is_first = (rows == 0) | (rev.deal[rows] != rev.deal[np.maximum(rows - 1, 0)])
    return counted_on(known, grown, slipped_with(grown.new, rows), is_first)


@derived(_mended_slips)
def slips_so_far(book: Book) -> Ints:
    """For each revision how often the deal's expected close had moved later while it was open, shape (revisions,)."""
    rev = book.revisions
    size = len(rev.deal)
    total = np.cumsum(slipped(book))
    first = np.flatnonzero(np.r_[True, rev.deal[1:] != rev.deal[:-1]][:size])
    return total - np.repeat(total[first], np.diff(np.r_[first, size]))


def open_deals_on(book: Book, snapshot: BookAsOf) -> tuple[OpenDealStates, Ints]:
    """The open deals of a snapshot (one with supposed changes too), and their places in it; one that came short stands since it came."""
    places = np.flatnonzero(snapshot.kind == OPEN)
    row, today = snapshot.row[places], snapshot.as_of.toordinal()
    states = OpenDealStates(
        snapshot.deal[places],
        snapshot.stage[places],
        snapshot.cut - book.revisions.effective_at[book.entered_row(row)],
        _days_to(snapshot.expected_close[places], today),
        slips_so_far(book)[row],
        snapshot.amount_minor[places],
        snapshot.owner[places],
    )
    return states, places


def _days_to(close: Ints, today: Ints | int) -> Floats:
    """Days from the end of `today` to the end of the expected close, both ordinals."""
    return np.where(close == NO_DAY, np.nan, close - today)


def landmarks(book: Book, cut: int, horizon: int) -> Ints:
    """Days before the cut of each landmark: the horizon, then every 14 days more for a year, not before the history's first days."""
    if book.first_entered_at == FOR_EVER:
        return np.zeros(0, dtype=np.int64)
    age = (cut - book.first_entered_at) / DAY_SECONDS
    oldest = min(age - min(FIRST_DAYS, age / 4), horizon + LANDMARK_DAYS)
    return np.arange(horizon, oldest, DAYS_BETWEEN, dtype=np.int64)


def _mended_past(known: Past, grown: Grown, as_of: date, horizon: int) -> Past | None:
    """What deals stood at stays while what came or went took effect after the newest landmark; those won are worked out anew."""
    cut = midnight_ending(as_of, grown.new.reference.time_zone)
    if not grown.growth.same_known or (grown.growth.moments < cut - horizon * DAY_SECONDS).any():
        return None
    won = _won_in_time(grown.new, known.states.deal, cut - known.days_ago * DAY_SECONDS, horizon)
    return replace(known, won=won)


def _won_in_time(book: Book, deal: Ints, moment: Ints, horizon: int) -> Flags:
    won_at = first_win(book)[0][deal]
    return np.asarray((won_at >= moment) & (won_at < moment + horizon * DAY_SECONDS))


@derived(_mended_past, most=CACHED_LARGE)
def past_open_deals(book: Book, as_of: date, horizon: int) -> Past:
    """All open deals with history on every landmark; of more than 15 000 rows every k-th."""
    rev, cut = book.revisions, midnight_ending(as_of, book.reference.time_zone)
    ago = landmarks(book, cut, horizon)
    moments = cut - ago * DAY_SECONDS
    if len(ago):
        rows = np.flatnonzero((rev.effective_at < moments[0]) & (book.effective_to >= moments[-1]))
        rows = rows[(book.reference.stage_kind[rev.stage[rows]] == OPEN) & ~book.deals.short_form[rev.deal[rows]]]
        # Landmarks in which a revision is in effect: from the newest at or before its end to the oldest after its start.
        rising = moments[::-1]
        newest = len(ago) - np.searchsorted(rising, np.minimum(book.effective_to[rows], moments[0]), side="right")
        oldest = len(ago) - np.searchsorted(rising, rev.effective_at[rows], side="right")
        many = np.maximum(oldest - newest, 0)
        rows_of = np.repeat(np.arange(len(rows)), many)
        nth = np.arange(len(rows_of)) - np.repeat(np.cumsum(many) - many, many) + newest[rows_of]
        step = max(-(-len(rows_of) // MOST_ROWS), 1)
        row, nth = rows[rows_of[::step]], nth[::step]
    else:
        row = nth = np.zeros(0, dtype=np.int64)
    moment, deal = moments[nth], rev.deal[row]
    # Landmarks lie whole days before the as-of day; to the hour of a changed clock that is their local midnight.
    today = as_of.toordinal() - ago[nth]
    states = OpenDealStates(
        deal,
        rev.stage[row],
        moment - rev.effective_at[book.entered_row(row)],
        _days_to(rev.expected_close[row], today),
        slips_so_far(book)[row],
        rev.amount_minor[row],
        rev.owner[row],
    )
    return Past(states, ago[nth], _won_in_time(book, deal, moment, horizon))
