"""The book: all deals with all their revisions in frozen columns, and their states as they stood.

Columns of deals have shape (deals,), of revisions (revisions,), of stays (stays,). Revisions are sorted by
deal, then in their order; void ones and those never in effect are not in the book.
"""

from dataclasses import dataclass, field, fields, replace
from datetime import date
from typing import Annotated, Any

import numpy as np
import numpy.typing as npt

from wise_tally.core.calendar import NO_DAY, local_days, midnight_ending
from wise_tally.core.deal_attributes import NO_ATTRIBUTES, DealAttributes
from wise_tally.core.derived import Cache, Grown, Grows, derived
from wise_tally.core.money import WHOLE_BP, Ints, weighted_minor
from wise_tally.core.reference_data import OPEN, WON, ReferenceData
from wise_tally.core.spliced import spliced
from wise_tally.core.stays import FOR_EVER, Stays, mended_stays, run_starts, stays_of
from wise_tally.core.trees import NONE

Flags = npt.NDArray[Any]  # bool throughout
# The middles and ends of the six periods that records look back on, about 10 MB each at 100,000 deals.
MOST_SNAPSHOTS = 10


# A column of a snapshot that is part of the states of its deals.
State = Annotated[Ints, "state"]


@dataclass(frozen=True)
class Deals:
    """What does not change with revisions. Indices into the reference data; -1 is none."""

    key: tuple[str, ...]
    process: Ints
    created_at: Ints
    deal_type: Ints
    source: Ints
    short_form: Flags
    lost_from: Ints


@dataclass(frozen=True)
class Revisions:
    """Full states of deals. `expected_close` is a day ordinal, 0 for none; `category`, `probability_bp` -1 for none."""

    deal: Ints
    effective_at: Ints
    stage: Ints
    amount_minor: Ints
    expected_close: Ints
    owner: Ints
    territory: Ints
    category: Ints
    probability_bp: Ints

    def take(self, rows: npt.NDArray[np.integer] | Flags) -> "Revisions":
        """The given rows only."""
        return Revisions(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))

    def in_effect(self) -> "Revisions":
        """Without revisions that another of the same deal and moment follows: they were never in effect."""
        follows = (self.deal[:-1] == self.deal[1:]) & (self.effective_at[:-1] == self.effective_at[1:])
        return self.take(np.r_[~follows, True]) if follows.any() else self


@dataclass(frozen=True)
class Credits:
    """Credit shares, sorted by deal, then day from which they hold; a deal's first rows hold always."""

    deal: Ints
    from_day: Ints
    person: Ints
    share_bp: Ints

    def on(self, day: int) -> npt.NDArray[np.integer]:
        """Rows in force on `day`: the last set not after it, before the first set the first."""
        if len(self.deal) == 0:
            return np.zeros(0, dtype=np.int64)
        starts = np.flatnonzero(np.r_[True, (np.diff(self.deal) != 0) | (np.diff(self.from_day) != 0)])
        deal = self.deal[starts]
        first = np.r_[True, deal[1:] != deal[:-1]]
        begins = np.where(first, 0, self.from_day[starts])
        ends = np.r_[np.where(deal[1:] == deal[:-1], begins[1:], FOR_EVER), FOR_EVER]
        chosen = (begins <= day) & (ends > day)
        return np.flatnonzero(np.repeat(chosen, np.diff(np.r_[starts, len(self.deal)])))


# Fields of a book as of a day that hold no value a deal.
UNLIKE_COLUMNS = ("as_of", "cut", "measure", "cache")


@dataclass(frozen=True)
class BookAsOf:
    """The book as it stood at the end of a day: one state per deal that existed.

    `row` is the revision in effect; `closed_on` a day ordinal, 0 while open; category and probability are
    resolved: a deal's own, else its stage's; won is 10 000, lost 0; a closed deal has no category.
    Where a deal counts for something else than its amount, or by another day, `amount_minor` is that `measure`,
    `known` tells which deals have one, and `due_on` is the day that decides the period (see `measures`).
    """

    as_of: date
    cut: int
    row: State
    deal: State
    stage: State
    kind: State
    amount_minor: State
    expected_close: State
    owner: State
    territory: State
    category: State
    probability_bp: State
    closed_on: State
    closed_at: State
    measure: str = "amount"
    due_on: Ints | None = None
    known: Flags | None = None
    cache: Cache = field(init=False, default_factory=Cache, repr=False, compare=False)

    @property
    @derived(Grows.CARRIED)
    def weighted_minor(self) -> Ints:
        """amount × probability of each deal, rounded half to even to the minor unit."""
        return weighted_minor(self.amount_minor, self.probability_bp)

    def of_deals(self, wanted: Flags) -> "BookAsOf":
        """The states of some deals alone; `wanted` has one flag a deal of the book."""
        rows = wanted[self.deal]
        columns = {one.name: getattr(self, one.name) for one in fields(self) if one.name not in UNLIKE_COLUMNS}
        return replace(self, **{name: values[rows] for name, values in columns.items() if values is not None})

    def deals_in(self, stage: int) -> int:
        """Number of deals that stand in a stage."""
        return int((self.stage == stage).sum())

    @property
    @derived(Grows.CARRIED)
    def membership_day(self) -> Ints:
        """The day whose team membership counts: that of the closing, for open deals the as-of day."""
        return np.where(self.kind == OPEN, self.as_of.toordinal(), self.closed_on)


def _mended_ends(ends: Ints, grown: Grown) -> Ints:
    growth, rev = grown.growth, grown.new.revisions
    before_gone = np.setdiff1d(growth.gone - 1, np.r_[growth.gone, -1])
    before_added = growth.rows[growth.rows > 0] - 1
    touched = np.unique(np.r_[growth.rows, before_added, growth.moved(before_gone)])
    following = np.minimum(touched + 1, len(rev.deal) - 1)
    same = (rev.deal[following] == rev.deal[touched]) & (following > touched)
    were_there = growth.before(np.setdiff1d(touched, growth.rows))
    return spliced(
        ends,
        np.union1d(growth.gone, were_there),
        touched,
        np.where(same, rev.effective_at[following], FOR_EVER),
    )


def _mended_first(first: int, grown: Grown) -> int | None:
    # Of a deal that came short one revision may follow, with which its whole history counts.
    return first if grown.growth.same_base and (grown.growth.moments > first).all() else None


def counted_on(known: Any, grown: Grown, more: Ints, is_first: Flags) -> Any:
    """A column that counts along each deal: an added row has `more` than the row before it, or 0 where it `is_first`."""
    growth = grown.growth
    rows = growth.rows
    # Rows come and go after those of their deal that stay, so what is known of these holds.
    before = known[np.minimum(growth.before(np.maximum(rows - 1, 0)), len(known) - 1)] if len(known) else rows
    counts: list[int] = []
    last = NONE
    for row, first, of_old, added in zip(*(one.tolist() for one in (rows, is_first, before, more)), strict=True):
        counts.append(0 if first else (counts[-1] if last == row - 1 else of_old) + added)
        last = row
    return growth.spliced(known, counts)


def _mended_rows_in_stage(known: Any, grown: Grown) -> Any:
    rev, rows = grown.new.revisions, grown.growth.rows
    former = np.maximum(rows - 1, 0)
    is_first = (rows == 0) | (rev.deal[rows] != rev.deal[former]) | (rev.stage[rows] != rev.stage[former])
    return counted_on(known, grown, np.ones(len(rows), dtype=np.int64), is_first)


def _mended_index(known: dict[str, int], grown: Grown) -> dict[str, int]:
    # New deals stand behind all that were known.
    keys = grown.new.deals.key
    return known | {keys[index]: index for index in range(len(known), len(keys))} if len(keys) > len(known) else known


def _mended_created(known: Ints, grown: Grown) -> Ints | None:
    zone = grown.new.reference.time_zone
    came = local_days(grown.new.deals.created_at[len(known) :], zone)
    return np.r_[known, came] if zone == grown.old.reference.time_zone else None


def with_rows_moved(snapshot: BookAsOf, grown: Grown, *_: object) -> BookAsOf | None:
    """A snapshot derived from one whose states nothing changed, with all that it keeps."""
    return _with_rows_moved(snapshot, grown) if grown.growth.same_base else None


def _with_rows_moved(snapshot: BookAsOf, grown: Grown) -> BookAsOf:
    moved = replace(snapshot, row=grown.growth.moved(snapshot.row))
    moved.cache.grow_from(snapshot.cache, Grown(snapshot, moved, grown.growth))
    return moved


def _carried(snapshot: BookAsOf, grown: Grown, as_of: date) -> BookAsOf | None:
    """Only deals with a revision that came or went before the cut get a new state; None where one of them is in one book only."""
    growth, old, new = grown.growth, grown.old, grown.new
    if old.reference is not new.reference:
        return None
    if (growth.moments >= snapshot.cut).all():
        return _with_rows_moved(snapshot, grown)
    deals = np.unique(np.r_[old.revisions.deal[growth.gone], new.revisions.deal[growth.rows]])
    rows = new.rows_of(deals, snapshot.cut)
    known = deals < len(old.deals.key)
    indices = np.searchsorted(snapshot.deal, deals[known])
    was_there = np.r_[snapshot.deal, NONE][indices] == deals[known]
    if (was_there != (rows[known] != NONE)).any():
        return None
    fresh = new.states(as_of, rows[rows != NONE])
    stays = np.isin(fresh.deal, deals[known])
    moved = snapshot.row.copy()
    still = ~np.isin(snapshot.deal, deals)
    moved[still] = growth.moved(moved[still])
    columns: dict[str, Any] = {}
    for name in STATES:
        column = moved if name == "row" else getattr(snapshot, name).copy()
        column[indices[was_there]] = getattr(fresh, name)[stays]
        # New deals stand behind all that were known.
        columns[name] = np.r_[column, getattr(fresh, name)[~stays]]
    return replace(snapshot, **columns)


STATES = tuple(one.name for one in fields(BookAsOf) if one.type is State)


@dataclass(frozen=True)
class Book:
    """Ground, deals, revisions and credits. `revision_number` names the state of the data it was read from."""

    reference: ReferenceData
    deals: Deals
    revisions: Revisions
    credits: Credits
    revision_number: int = 0
    attributes: DealAttributes = NO_ATTRIBUTES
    cache: Cache = field(init=False, default_factory=Cache, repr=False, compare=False)

    def with_attributes(self, attributes: DealAttributes) -> "Book":
        """The same book with something else beside it, which no value of the book depends on."""
        book = replace(self, attributes=attributes)
        book.cache.share(self.cache)
        return book

    @property
    @derived(_mended_ends)
    def effective_to(self) -> Ints:
        """When the next revision of the same deal takes over; FOR_EVER for the last."""
        rev = self.revisions
        return np.r_[np.where(rev.deal[1:] == rev.deal[:-1], rev.effective_at[1:], FOR_EVER), FOR_EVER][: len(rev.deal)]

    @property
    @derived(_mended_index)
    def index_by_key(self) -> dict[str, int]:
        """Index of each deal by its identifier."""
        return {key: index for index, key in enumerate(self.deals.key)}

    @property
    @derived()
    def _run_starts(self) -> npt.NDArray[np.integer]:
        return run_starts(self.revisions)

    @property
    @derived(_mended_rows_in_stage)
    def _rows_in_stage(self) -> npt.NDArray[np.int32]:
        """For each revision how many of the deal came before it since it entered the stage it then stood in."""
        starts, size = self._run_starts, len(self.revisions.deal)
        return np.asarray(np.arange(size) - np.repeat(starts, np.diff(np.r_[starts, size])), dtype=np.int32)

    def entered_row(self, rows: npt.NDArray[np.integer]) -> Ints:
        """For each of these revisions the one with which the deal entered the stage it then stood in."""
        return np.asarray(rows - self._rows_in_stage[rows])

    @property
    @derived(mended_stays)
    def stays(self) -> Stays:
        """All stays of deals with history."""
        return stays_of(self.revisions, self._run_starts, self.deals.short_form)

    @property
    @derived(_mended_first)
    def first_entered_at(self) -> int:
        """When the first deal with history entered its first stage; FOR_EVER where there is none."""
        history = ~self.deals.short_form[self.revisions.deal]
        return int(self.revisions.effective_at[history].min(initial=FOR_EVER))

    @property
    @derived()
    def open_stays(self) -> Stays:
        """The stays in open stages."""
        stays = self.stays
        rows = np.flatnonzero(self.reference.stage_kind[stays.stage] == OPEN)
        return Stays(
            stays.deal[rows], stays.stage[rows], stays.entered_at[rows], stays.left_at[rows], stays.owner[rows]
        )

    @property
    @derived()
    def stay_entered_on(self) -> Ints:
        """Local day on which each open stay began."""
        return local_days(self.open_stays.entered_at, self.reference.time_zone)

    @property
    @derived(_mended_created)
    def created_on(self) -> Ints:
        """Local day on which each deal was created."""
        return local_days(self.deals.created_at, self.reference.time_zone)

    @derived(_carried, most=MOST_SNAPSHOTS)
    def as_of(self, day: date) -> BookAsOf:
        """Every deal's state at the end of `day` in the workspace's time zone, under the rules of that day."""
        return self.looked_back(day)

    def looked_back(self, day: date) -> BookAsOf:
        """The same, not kept: for what is itself kept once it is computed, so that it pushes out no day that people look at."""
        return self.states(day, self.rows_on(day))

    def rows_on(self, as_of: date) -> npt.NDArray[np.integer]:
        """The revisions in effect at the end of `as_of`, one of each deal that existed."""
        cut = midnight_ending(as_of, self.reference.time_zone)
        return np.flatnonzero((self.revisions.effective_at < cut) & (self.effective_to >= cut))

    def rows_of(self, deals: Ints, cut: int) -> Ints:
        """The revision of each of a few deals in effect before `cut`; -1 where it had none yet."""
        first, end = (np.searchsorted(self.revisions.deal, deals, side=side) for side in ("left", "right"))  # type: ignore[call-overload]
        rows = np.full(len(deals), NONE)
        for index, (begin, behind) in enumerate(zip(first.tolist(), end.tolist(), strict=True)):
            in_time = int(np.searchsorted(self.revisions.effective_at[begin:behind], cut))
            rows[index] = begin + in_time - 1 if in_time else NONE
        return rows

    def states(self, as_of: date, row: npt.NDArray[np.integer]) -> BookAsOf:
        """The states that the revisions `row` (at most one a deal) give at the end of `as_of`."""
        reference, rev = self.reference, self.revisions
        stage, kind = rev.stage[row], reference.stage_kind[rev.stage[row]]
        rules = reference.rules_on(as_of)
        stage_category = np.array([rule.category for rule in rules], dtype=np.int64)
        stage_probability = np.array([rule.probability_bp for rule in rules], dtype=np.int64)
        own_category, own_probability = rev.category[row], rev.probability_bp[row]
        category = np.where(own_category == NONE, stage_category[stage], own_category)
        probability = np.where(
            (own_probability == NONE) | ~reference.allows_own_probability[stage],
            stage_probability[stage],
            own_probability,
        )
        is_open = kind == OPEN
        closed_at = np.where(is_open, 0, rev.effective_at[self.entered_row(row)])
        closed_on = np.full(len(row), NO_DAY)
        closed_on[~is_open] = local_days(closed_at[~is_open], reference.time_zone)
        return BookAsOf(
            as_of=as_of,
            cut=midnight_ending(as_of, reference.time_zone),
            row=row,
            deal=rev.deal[row],
            stage=stage,
            kind=kind,
            amount_minor=rev.amount_minor[row],
            expected_close=rev.expected_close[row],
            owner=rev.owner[row],
            territory=rev.territory[row],
            category=np.where(is_open, category, NONE),
            probability_bp=np.where(is_open, probability, np.where(kind == WON, WHOLE_BP, 0)),
            closed_on=closed_on,
            closed_at=closed_at,
        )
