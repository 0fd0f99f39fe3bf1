"""The reference class of a deal: past stays that had lasted as long in the same stage, and how many of them were won in the days left."""

from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.money import Ints
from wise_tally.core.outlook.moves import LOOK_BACK_DAYS
from wise_tally.core.reach import first_win
from wise_tally.core.statistics import DAY_SECONDS

ENOUGH = 30
# A class of fewer proves nothing.
LEAST = 10


@dataclass(frozen=True)
class ReferenceClass:
    """`won` of `deals` stays that had reached `days` days in a stage were won within `horizon` days (but not in the first `before`
    of them); the deals of these stays, a deal as often as it has stays.

    `or_more`: the deal has stood longer than `days`, the largest age that enough past stays reached.
    """

    stage: int
    days: int
    horizon: int
    before: int
    or_more: bool
    deals: Ints
    won: Ints

    @property
    def enough(self) -> bool:
        """Whether the class holds at least 10 stays: with fewer no chance is given."""
        return len(self.deals) >= LEAST


def reference_class(book: Book, cut: int, horizon: int, stage: int, age_days: int, before: int = 0) -> ReferenceClass:
    """Past stays in a stage that reached a deal's age in whole days `horizon` days or more before `cut`; else the largest age 30 reached.

    One row a stay, within the last 730 days; those are won whose deal was first won in the `horizon` days after they reached that age.
    """
    stays = book.stays
    rows = np.flatnonzero((stays.stage == stage) & (stays.entered_at < cut))
    entered, deal = stays.entered_at[rows], stays.deal[rows]
    stood, won_at = np.minimum(stays.left_at[rows], cut) - entered, first_win(book)[0][deal]
    window, since = horizon * DAY_SECONDS, cut - LOOK_BACK_DAYS * DAY_SECONDS
    # A stay is of a class of d days where d lies from its first day in the look-back to the last it reached in time.
    first = np.maximum(-(-(since - entered) // DAY_SECONDS), 0)
    last = np.minimum(stood, cut - window - entered) // DAY_SECONDS
    days = age_days
    if ((first <= days) & (last >= days)).sum() < ENOUGH:
        days = _largest_age(first, last, age_days)
    moment = entered + days * DAY_SECONDS
    inside = (first <= days) & (last >= days)
    won = inside & (won_at >= moment + before * DAY_SECONDS) & (won_at < moment + window)
    return ReferenceClass(stage, days, horizon, before, days < age_days, deal[inside], deal[won])


def _largest_age(first: Ints, last: Ints, below: int) -> int:
    """The largest age under `below` days that enough stays reached; 0 where none did."""
    counted = last >= first
    size = max(below, 1)
    joined = np.bincount(np.minimum(first[counted], size), minlength=size + 1)
    gone = np.bincount(np.minimum(last[counted] + 1, size), minlength=size + 1)
    present = np.cumsum(joined - gone)[:size]
    enough = np.flatnonzero(present >= ENOUGH)
    return int(enough[-1]) if len(enough) else 0
