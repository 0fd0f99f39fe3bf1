"""Still to come: deals not yet in the pipeline that will be created and won before the period ends.

A past win that took c days from creation fits, created and won, into h days in (h − c)+ ways of placing it. So the mean number is
Σ (h − c)+ ÷ Y × ratio over the wins of the last Y days; ratio follows how many deals come in now, by process.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wise_tally.core.book import Book
from wise_tally.core.derived import Grown, derived
from wise_tally.core.money import Ints
from wise_tally.core.reach import first_win
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.stays import deals_changed

YEAR_DAYS = 365
HALF_LIFE_DAYS = 120.0
CALENDAR_YEAR = 365.25
MONTHS = 12
LEAST_RATIO, MOST_RATIO = 0.5, 2.0
LEAST_HISTORY_DAYS = 14


@dataclass(frozen=True)
class StillToCome:
    """Past wins that stand for the deals to come: process, amount in minor units, and how many of each are expected (days ÷ days)."""

    process: Ints
    amount_minor: Ints
    expected: Floats

    @property
    def number(self) -> float:
        """Deals expected."""
        return float(self.expected.sum())

    @property
    def mean_minor(self) -> float:
        """Money expected, in minor units."""
        return float((self.expected * self.amount_minor).sum())

    def shared(self, share: Floats) -> "StillToCome":
        """The part of a group: its share of each process's arrivals, shape (processes,)."""
        return StillToCome(self.process, self.amount_minor, self.expected * share[self.process])


NOTHING_TO_COME = StillToCome(np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64), np.zeros(0))


def _mended_created_moments(known: Ints, grown: Grown) -> Ints | None:
    deals, rev = deals_changed(grown), grown.new.revisions
    if deals is None:
        return None
    moments = np.r_[known, grown.new.deals.created_at[len(known) :]]
    first = np.searchsorted(rev.deal, deals)
    there = np.searchsorted(rev.deal, deals, side="right") > first
    moments[deals] = grown.new.deals.created_at[deals]
    moments[deals[there]] = rev.effective_at[first[there]]
    return moments


@derived(_mended_created_moments)
def created_moments(book: Book) -> Ints:
    """The moment of each deal's first revision, shape (deals,)."""
    rev = book.revisions
    first = np.flatnonzero(np.r_[True, rev.deal[1:] != rev.deal[:-1]][: len(rev.deal)])
    moments = book.deals.created_at.copy()
    moments[rev.deal[first]] = rev.effective_at[first]
    return moments


def still_to_come(book: Book, cut: int, horizon: int, before: int = 0) -> StillToCome:
    """Deals expected to be created after `cut` and won within `horizon` days, by what was won in the last year (or since the book began).

    Those won in the first `before` days are left out.
    """
    created, (won_at, won_minor) = created_moments(book), first_win(book)
    came = np.flatnonzero(created < cut)
    if not len(came) or horizon <= 0:
        return NOTHING_TO_COME
    age = (cut - int(created[came].min())) / DAY_SECONDS
    span = min(float(YEAR_DAYS), age)
    won = np.flatnonzero((won_at < cut) & (won_at >= cut - span * DAY_SECONDS))
    took = (won_at[won] - book.deals.created_at[won]) / DAY_SECONDS
    ways = (np.maximum(horizon - took, 0.0) - np.maximum(before - took, 0.0)) / max(span, 1.0)
    fits = ways > 0
    won, expected, process = won[fits], ways[fits], book.deals.process[won[fits]]
    ago = (cut - created[came]) / DAY_SECONDS
    for one in np.unique(process).tolist():
        own = ago[book.deals.process[came] == one]
        past = np.count_nonzero(own <= span) / max(span, 1.0)
        ratio = arrivals_a_day(own, age, cut / DAY_SECONDS, horizon) / max(past, 1e-9)
        expected[process == one] *= min(max(ratio, LEAST_RATIO), MOST_RATIO)
    return StillToCome(process, won_minor[won], expected)


def arrivals_a_day(days_ago: Floats, age: float, today: float, horizon: int) -> float:
    """Deals expected a day over the coming `horizon` days: recent arrivals weigh more, months by their season.

    `days_ago` of each past arrival, `age` the book's in days, `today` days since 1970. With two years of history or more a month's index is
    1 + κ(n ÷ mean − 1), κ = x ÷ (x + 1 ÷ mean), x what its variance has beyond chance; else 1.
    """
    if age < LEAST_HISTORY_DAYS:
        return 0.0
    index = np.ones(MONTHS)
    if age >= 2 * YEAR_DAYS:
        whole_years = int(age // CALENDAR_YEAR)
        number = np.bincount(_month(today - days_ago[days_ago <= whole_years * CALENDAR_YEAR]), minlength=MONTHS)
        mean = max(float(number.mean()), 1e-9)
        beyond = max(0.0, float(np.var(number / mean)) - 1 / mean)
        index = 1 + beyond / (beyond + 1 / mean) * (number / mean - 1)
    days = np.arange(0.5, age)
    weighed = (0.5 ** (days / HALF_LIFE_DAYS) * index[_month(today - days)]).sum()
    level = (0.5 ** (days_ago / HALF_LIFE_DAYS)).sum() / max(float(weighed), 1e-9)
    return float(level * index[_month(today + np.arange(horizon) + 0.5)].mean())


def _month(day: npt.NDArray[np.floating]) -> Ints:
    """The twelfth of the year in which days since 1970 lie."""
    return ((day % CALENDAR_YEAR) / CALENDAR_YEAR * MONTHS).astype(np.int64)


def run_rate(book: Book, cut: int, horizon: int) -> StillToCome:
    """What is won if wins go on as in the last year (or since the book began): each past win, horizon ÷ days of it times."""
    created, (won_at, won_minor) = created_moments(book), first_win(book)
    began = int(created[created < cut].min()) if (created < cut).any() else cut
    span = min(float(YEAR_DAYS), (cut - began) / DAY_SECONDS)
    won = np.flatnonzero((won_at < cut) & (won_at >= cut - span * DAY_SECONDS))
    return StillToCome(book.deals.process[won], won_minor[won], np.full(len(won), max(horizon, 0) / max(span, 1.0)))
