"""The same work in plain numpy on raw columns: what the core's times are measured against."""

import itertools

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period, local_days, midnight_ending
from wise_tally.core.ground import OPEN


def _states(book: Book, cut: int) -> np.ndarray:
    rev = book.revisions
    last = np.r_[rev.deal[1:] != rev.deal[:-1], True]
    following = np.r_[rev.effective_at[1:], 0]
    return np.flatnonzero((rev.effective_at < cut) & (last | (following >= cut)))


def forecast_by_rep(book: Book, period: Period, as_of: object) -> np.ndarray:
    """Won, lost and weighted sums of each owner as they stood."""
    rev, ground = book.revisions, book.ground
    cut = midnight_ending(as_of, ground.time_zone)  # type: ignore[arg-type]
    row = _states(book, cut)
    stage, amount, owner, close = rev.stage[row], rev.amount_minor[row], rev.owner[row], rev.expected_close[row]
    kind = ground.stage_kind[stage]
    probability = np.array([rule.probability_bp for rule in ground.rules_on(as_of)])[stage]  # type: ignore[arg-type]
    category = np.array([rule.category for rule in ground.rules_on(as_of)])[stage]  # type: ignore[arg-type]
    category = np.where(rev.category[row] >= 0, rev.category[row], category)
    quotient, rest = np.divmod(amount * probability, 10_000)
    weighted = quotient + ((rest > 5_000) | ((rest == 5_000) & (quotient % 2 == 1)))
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    inside = (close >= first) & (close <= last) & (kind == OPEN)
    closed = local_days(rev.effective_at[book.entered_row[row]], ground.time_zone)
    closed_inside = (closed >= first) & (closed <= last)
    people = len(ground.people)
    bucket = np.where(
        inside, 2 + category, np.where(closed_inside & (kind != OPEN), kind - 1, 2 + len(ground.categories))
    )
    size = 3 + len(ground.categories)
    return np.stack(
        [np.bincount(owner * size + bucket, weights, people * size) for weights in (amount, weighted, None)]
    )


def conversion_by_rep(book: Book, period: Period, as_of: object) -> np.ndarray:
    """Deals reached per stage and owner, by number and value, with rates and intervals, for deals created in the window."""
    rev, ground = book.revisions, book.ground
    row = _states(book, midnight_ending(as_of, ground.time_zone))  # type: ignore[arg-type]
    order = ground.open_stages(0)
    place = np.full(len(ground.stages), -1)
    place[list(order)] = np.arange(len(order))
    starts = np.flatnonzero(np.r_[True, rev.deal[1:] != rev.deal[:-1]])
    counted = np.where(rev.effective_at < midnight_ending(as_of, ground.time_zone), place[rev.stage], -1)  # type: ignore[arg-type]
    furthest = np.maximum.reduceat(counted, starts)[rev.deal[row]]
    furthest = np.where(ground.stage_kind[rev.stage[row]] == 1, len(order), furthest)
    day = book.created_on[rev.deal[row]]
    inside = (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())
    width, people = len(order) + 2, len(ground.people)
    cell = (rev.owner[row] * width + furthest + 1)[inside]
    tables = [np.bincount(cell, w, people * width) for w in (None, rev.amount_minor[row][inside])]
    reached, value = (np.cumsum(t.reshape(people, width)[:, ::-1], axis=1)[:, ::-1] for t in tables)
    n = np.maximum(reached[:, 1:-1], 1)
    rate, z2 = np.minimum(reached[:, 2:] / n, 1.0), 3.8415
    margin = np.sqrt(z2 * rate * (1 - rate) / n + z2 * z2 / (4 * n * n))
    return np.hstack(
        [
            reached,
            value,
            rate,
            (rate + z2 / (2 * n) - margin) / (1 + z2 / n),
            (rate + z2 / (2 * n) + margin) / (1 + z2 / n),
        ]
    )


def time_in_stage_by_rep(book: Book, period: Period, as_of: object) -> list[float]:
    """Kaplan–Meier quantiles, mean and median per stage and owner from stays already cut out of the revisions."""
    ground = book.ground
    cut = midnight_ending(as_of, ground.time_zone)  # type: ignore[arg-type]
    day, stays = book.stay_entered_on, book.open_stays
    keep = (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())
    keep &= stays.entered_at < cut
    ended = stays.left_at[keep] < cut
    seconds = np.minimum(stays.left_at[keep], cut) - stays.entered_at[keep]
    group = stays.owner[keep] * len(ground.stages) + stays.stage[keep]
    packed = np.sort((((group << 35) | seconds) << 1) | ~ended)
    edges = np.flatnonzero(np.r_[True, np.diff(packed >> 36) != 0, True])
    medians: list[float] = []
    for start, end in itertools.pairwise(edges):
        part = packed[start:end]
        risk = np.arange(len(part), 0, -1)
        survival = np.cumprod(np.where(part & 1, 1.0, (risk - 1) / risk))
        below = survival <= 0.5 + 1e-12
        medians.append(float((part[int(np.argmax(below))] >> 1) & ((1 << 35) - 1)) if below.any() else np.nan)
        late = survival <= 0.25 + 1e-12
        medians.append(float((part[int(np.argmax(late))] >> 1) & ((1 << 35) - 1)) if late.any() else np.nan)
        done = ((part >> 1) & ((1 << 35) - 1))[(part & 1) == 0]
        medians += [float(done.mean()), float(np.median(done))] if len(done) else []
    return medians
