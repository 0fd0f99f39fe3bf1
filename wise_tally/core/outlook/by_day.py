"""Where won may stand on each day ahead, by the outlook."""

from dataclasses import replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grows, derived
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.distribution import outcome_of
from wise_tally.core.outlook.fit import chance_of_stages
from wise_tally.core.outlook.moves import whole_days
from wise_tally.core.outlook.rows import of_deals, stakes_of
from wise_tally.core.outlook.still_to_come import StillToCome, still_to_come


@derived(Grows.CARRIED)
def _to_come_by(book: Book, snapshot: BookAsOf, days: tuple[int, ...]) -> tuple[StillToCome, ...]:
    """What is still to come by each of some days (ordinals), of the whole book."""
    return tuple(still_to_come(book, snapshot.cut, day - snapshot.as_of.toordinal()) for day in days)


@derived(Grows.CARRIED)
def likely_by_outlook(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, days: tuple[int, ...]
) -> tuple[tuple[int, int, int], ...]:
    """P10, P50 and P90 of what is won by the end of each day (ordinals, in the period and after the as-of day), in minor units.

    A deal's chance by a day is its chance by the period's end × the part that its stage and age alone give it by then.
    """
    whole = of_deals(book, snapshot, period)
    stake = stakes_of(book, forecast_lines(book, snapshot, period, scope, by), whole)
    today = snapshot.as_of.toordinal()
    ahead = [day - today for day in days]
    states = whole.chances.states
    by_then = chance_of_stages(whole.until.rates, ahead, len(book.reference.stages))
    of_deal = np.zeros((len(days), len(snapshot.deal)))
    of_deal[:, whole.chances.places] = by_then[:, states.stage, whole_days(states.age_seconds)]
    by_age = np.zeros(len(snapshot.deal))
    by_age[whole.chances.places] = whole.chances.by_age
    part = np.divide(of_deal, by_age, out=np.zeros_like(of_deal), where=by_age > 0)[:, stake.rows]
    by_day = []
    for index, days_left in enumerate(ahead):
        open_deals = stake.may_be_won
        if days_left < whole.until.horizon:
            to_come = _to_come_by(book, snapshot, days)[index].shared(stake.share)
            open_deals = replace(open_deals, chance=open_deals.chance * np.minimum(part[index], 1.0), to_come=to_come)
        outcome = outcome_of(open_deals)
        by_day.append((outcome.quantile(0.1), outcome.quantile(0.5), outcome.quantile(0.9)))
    return tuple(by_day)
