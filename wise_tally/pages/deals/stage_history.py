"""A deal's trail: its path through stages, drawn to the scale of days, with who, when, how long, backwards and skipped."""

from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.calendar import NO_DAY, local_days, midnight_ending
from wise_tally.core.deal_list import stays_of
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.ink import share


@dataclass(frozen=True)
class TrailStay:
    """A stay drawn to the scale of days; `skipped` names the stages between the one before and this one."""

    stage: str
    left: str
    width: str
    days: float
    over: float | None
    over_left: str
    over_width: str
    opacity: str
    entered_on: int
    roomy: bool
    person: str
    is_back: bool
    skipped: tuple[str, ...]


@dataclass(frozen=True)
class Trail:
    """The stays of a deal from its creation to the as-of day."""

    stays: tuple[TrailStay, ...]
    short_form: bool
    now: str = ""
    close: str = ""
    to_close: str = ""

    @property
    def backwards(self) -> int:
        """How many moves went back."""
        return sum(stay.is_back for stay in self.stays)

    @property
    def skipping(self) -> int:
        """How many moves skipped a stage."""
        return sum(bool(stay.skipped) for stay in self.stays)


ROOMY = 9


def trail(line: FilterLine, deal: int, close: int) -> Trail:
    """The deal's path through open stages up to the as-of midnight, and on to an expected close (NO_DAY for none)."""
    reference, stays = line.book.reference, stays_of(line.book, line.snapshot, deal)
    if not stays:
        return Trail((), bool(line.book.deals.short_form[deal]))
    start, last = stays[0].entered_at, max(stay.left_at for stay in stays)
    closes = midnight_ending(date.fromordinal(close), reference.time_zone) if close != NO_DAY else 0
    end = max(last, closes)
    days = local_days(np.array([stay.entered_at for stay in stays]), reference.time_zone).tolist()
    drawn = []
    for number, stay in enumerate(stays):
        is_back, skipped = _step(reference, stays[number - 1].stage if number else None, stay.stage)
        over_seconds = int((stay.over or 0) * DAY_SECONDS)
        drawn.append(
            TrailStay(
                stage=reference.stages[stay.stage].name,
                left=share(stay.entered_at - start, end - start),
                width=share(max(stay.left_at - stay.entered_at, 1), end - start),
                days=stay.days,
                over=stay.over,
                over_left=share(stay.left_at - over_seconds - start, end - start),
                over_width=share(over_seconds, end - start),
                opacity=f"{0.45 + 0.5 * number / max(1, len(stays) - 1):.2f}",
                entered_on=days[number],
                roomy=(stay.left_at - stay.entered_at) * 100 > (end - start) * ROOMY,
                person=reference.people[stay.owner].name,
                is_back=is_back,
                skipped=skipped,
            )
        )
    if closes <= last:
        return Trail(tuple(drawn), False)
    now, closing, ahead = (share(span, end - start) for span in (last - start, closes - start, closes - last))
    return Trail(tuple(drawn), False, now, closing, ahead)


def _step(reference: ReferenceData, before: int | None, here: int) -> tuple[bool, tuple[str, ...]]:
    """Whether a move went back, and the names of the stages in use that it skipped; a deal's first stay skips those before."""
    order = reference.open_stages(reference.stages[here].process, with_retired=False)
    index = {stage: number for number, stage in enumerate(order)}
    if here not in index or (before is not None and before not in index):
        return False, ()
    came_from = index[before] if before is not None else -1
    between = order[came_from + 1 : index[here]]
    return came_from > index[here], tuple(reference.stages[stage].name for stage in between)
