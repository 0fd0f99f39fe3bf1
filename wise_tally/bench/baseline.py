"""The same work in plain numpy on raw columns: what the core's times are measured against.

Both give the same figures for every rep, which the tests hold; the baseline has no filters, trees, credit or working.
"""

import itertools
import math
from datetime import date

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.calendar import NO_DAY, Period, local_days, midnight_ending
from wise_tally.core.reference_data import OPEN, WON


def _states(book: Book, cut: int) -> np.ndarray:
    rev = book.revisions
    last = np.r_[rev.deal[1:] != rev.deal[:-1], True]
    following = np.r_[rev.effective_at[1:], 0]
    return np.flatnonzero((rev.effective_at < cut) & (last | (following >= cut)))


class QuotaColumns:
    """The raw columns of people's monthly quotas of won amounts, taken out of the reference data before any clock runs."""

    def __init__(self, book: Book) -> None:
        rows = [q for q in book.reference.quotas if q.subject == "person" and q.metric == "won_amount"]
        columns = np.array([(q.subject_index, q.starts_on, q.ends_on, q.value) for q in rows], dtype=np.int64)
        self.person, self.starts, self.ends, self.value = columns.reshape(len(rows), 4).T

    def of(self, period: Period, people: int) -> tuple[np.ndarray, np.ndarray]:
        """Each person's quota of a period, and whether there is one."""
        first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
        overlap = np.minimum(self.ends, last) - np.maximum(self.starts, first) + 1
        inside = overlap > 0
        parts = _rounded(self.value[inside] * overlap[inside], (self.ends - self.starts)[inside] + 1)
        person = self.person[inside]
        return np.bincount(person, parts, people), np.bincount(person, minlength=people) > 0


def _rounded(product: np.ndarray, divisor: np.ndarray | int) -> np.ndarray:
    quotient, rest = np.divmod(product, divisor)
    return quotient + ((2 * rest > divisor) | ((2 * rest == divisor) & (quotient % 2 == 1)))


def forecast_by_rep(book: Book, quota: QuotaColumns, period: Period, as_of: date) -> list[list[float | None]]:
    """Of each owner: won, lost, open, weighted open, weighted, won + commit, with best case, overdue, overdue before,
    undated, each category, deals won and open, quota; no deal is split here."""
    rev, reference = book.revisions, book.reference
    row = _states(book, midnight_ending(as_of, reference.time_zone))
    stage, amount, owner, close = rev.stage[row], rev.amount_minor[row], rev.owner[row], rev.expected_close[row]
    kind = reference.stage_kind[stage]
    rules = reference.rules_on(as_of)
    probability = np.array([rule.probability_bp for rule in rules])[stage]
    category = np.array([rule.category for rule in rules])[stage]
    category = np.where(rev.category[row] >= 0, rev.category[row], category)
    weighted = _rounded(amount * probability, 10_000)
    first, last, today = period.starts_on.toordinal(), period.ends_on.toordinal(), as_of.toordinal()
    inside = (close >= first) & (close <= last)
    timing = np.where(inside, (close < today).astype(int), np.where((close < today) & (close < first), 2, 3))
    timing = np.where(close == NO_DAY, 4, timing)
    closed = local_days(rev.effective_at[book.entered_row(row)], reference.time_zone)
    closed_inside = (closed >= first) & (closed <= last)
    bucket = np.where(kind == OPEN, 3 + category * 5 + timing, np.where(closed_inside, kind - 1, 2))
    people, size = len(reference.people), 3 + len(reference.categories) * 5
    money, expected, deals = (
        np.bincount(owner * size + bucket, weights, people * size).reshape(people, size)
        for weights in (amount, weighted, None)
    )
    counted = list(reference.surest_first)
    by_timing, by_chance = money[:, 3:].reshape(people, -1, 5), expected[:, 3:].reshape(people, -1, 5)
    due = by_timing[:, :, 0] + by_timing[:, :, 1]
    won, weighted_open = money[:, 0], by_chance[:, counted, :2].sum(axis=(1, 2))
    surest = won + due[:, counted[0]]
    target, there = quota.of(period, people)
    columns = [won, money[:, 1], due[:, counted].sum(axis=1), weighted_open, won + weighted_open, surest]
    columns += [surest + due[:, counted[1]], *(by_timing[:, counted, index].sum(axis=1) for index in (1, 2, 4))]
    columns += [*due.T, deals[:, 0], deals[:, 3:].reshape(people, -1, 5)[:, counted, :2].sum(axis=(1, 2))]
    columns.append(np.where(there, target, np.nan))
    return _with_none(np.stack(columns, axis=1))


def conversion_by_rep(book: Book, period: Period, as_of: date) -> tuple[np.ndarray, list[list[float | None]]]:
    """For deals created in the window, of each owner: per stage reached, value, step, its bounds and from start
    (shape (people, 6, stages)); then created, won, lost, closed won, closed lost and both win rates."""
    rev, reference = book.revisions, book.reference
    cut = midnight_ending(as_of, reference.time_zone)
    row = _states(book, cut)
    order = reference.open_stages(0)
    index = np.full(len(reference.stages), -1)
    index[list(order)] = np.arange(len(order))
    starts = np.flatnonzero(np.r_[True, rev.deal[1:] != rev.deal[:-1]])
    counted = np.where(rev.effective_at < cut, index[rev.stage], -1)
    furthest = np.maximum.reduceat(counted, starts)[rev.deal[row]]
    kind = reference.stage_kind[rev.stage[row]]
    furthest = np.where(kind == WON, len(order), furthest)
    first, last = period.starts_on.toordinal(), period.ends_on.toordinal()
    day = book.created_on[rev.deal[row]]
    inside = (day >= first) & (day <= last)
    closed = local_days(rev.effective_at[book.entered_row(row)], reference.time_zone)
    closed_inside = (closed >= first) & (closed <= last)
    width, people, owner = len(order) + 2, len(reference.people), rev.owner[row]
    cell = (owner * width + furthest + 1)[inside]
    tables = [np.bincount(cell, w, people * width) for w in (None, rev.amount_minor[row][inside])]
    reached, value = (np.cumsum(t.reshape(people, width)[:, ::-1], axis=1)[:, ::-1][:, 1:] for t in tables)
    with np.errstate(divide="ignore", invalid="ignore"):
        step = np.hstack([reached[:, 1:] / reached[:, :-1], np.full((people, 1), np.nan)])
        from_start = reached / reached[:, :1]
        low, high = _wilson(step, reached)
        counts = np.bincount((owner * 3 + kind)[inside], minlength=people * 3).reshape(people, 3).T
        ends = np.bincount((owner * 3 + kind)[closed_inside], minlength=people * 3).reshape(people, 3).T
        created = counts.sum(axis=0)
        totals = [created, counts[1], counts[2], ends[1], ends[2], counts[1] / created, ends[1] / (ends[1] + ends[2])]
    return np.stack([reached, value, step, low, high, from_start], axis=1), _with_none(np.stack(totals, axis=1))


def _with_none(table: np.ndarray) -> list[list[float | None]]:
    return [[None if math.isnan(cell) else cell for cell in line] for line in table.tolist()]


def _wilson(rate: np.ndarray, n: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    z2 = 1.959963984540054**2
    margin = np.sqrt(z2 * rate * (1 - rate) / n + z2 * z2 / (4 * n * n))
    return (rate + z2 / (2 * n) - margin) / (1 + z2 / n), (rate + z2 / (2 * n) + margin) / (1 + z2 / n)


def time_in_stage_by_rep(book: Book, period: Period, as_of: date) -> list[float]:
    """Kaplan–Meier quantiles, mean and median per stage and owner from stays already cut out of the revisions."""
    reference = book.reference
    cut = midnight_ending(as_of, reference.time_zone)
    day, stays = book.stay_entered_on, book.open_stays
    keep = (day >= period.starts_on.toordinal()) & (day <= period.ends_on.toordinal())
    keep &= stays.entered_at < cut
    ended = stays.left_at[keep] < cut
    seconds = np.minimum(stays.left_at[keep], cut) - stays.entered_at[keep]
    group = stays.owner[keep] * len(reference.stages) + stays.stage[keep]
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
