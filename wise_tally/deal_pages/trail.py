"""A deal's trail: its path through stages, drawn to the scale of days, with who, when, how long, backwards and skipped."""

from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.calendar import NO_DAY, local_days, midnight_ending
from wise_tally.core.ground import OPEN, Ground
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.scope.line import ScopeLine
from wise_tally.ui.ink import share


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


def trail(line: ScopeLine, deal: int, close: int) -> Trail:
    """The deal's path through open stages up to the as-of midnight, and on to an expected close (NO_DAY for none)."""
    stays, ground, cut = line.book.stays, line.book.ground, line.standing.cut
    mine = [i for i in range(*_span(line, deal)) if ground.stages[int(stays.stage[i])].kind == OPEN]
    mine = [i for i in mine if int(stays.entered_at[i]) < cut]
    if not mine:
        return Trail((), bool(line.book.deals.short_form[deal]))
    rules = ground.rules_on(line.as_of)
    start = int(stays.entered_at[mine[0]])
    last = max(min(int(stays.left_at[i]), cut) for i in mine)
    closes = midnight_ending(date.fromordinal(close), ground.time_zone) if close != NO_DAY else 0
    end = max(last, closes)
    days = local_days(np.array([int(stays.entered_at[i]) for i in mine]), ground.time_zone).tolist()
    drawn = []
    for number, i in enumerate(mine):
        entered, left = int(stays.entered_at[i]), min(int(stays.left_at[i]), cut)
        here, before = int(stays.stage[i]), int(stays.stage[mine[number - 1]]) if number else None
        typical = rules[here].typical_days
        spent = (left - entered) / DAY_SECONDS
        over = spent - typical if typical is not None and spent > typical else None
        over_seconds = int((over or 0) * DAY_SECONDS)
        is_back, skipped = _step(ground, before, here)
        drawn.append(
            TrailStay(
                stage=ground.stages[here].name,
                left=share(entered - start, end - start),
                width=share(max(left - entered, 1), end - start),
                days=spent,
                over=over,
                over_left=share(left - over_seconds - start, end - start),
                over_width=share(over_seconds, end - start),
                opacity=f"{0.45 + 0.5 * number / max(1, len(mine) - 1):.2f}",
                entered_on=days[number],
                roomy=(left - entered) * 100 > (end - start) * ROOMY,
                person=ground.people[int(stays.owner[i])].name,
                is_back=is_back,
                skipped=skipped,
            )
        )
    if closes <= last:
        return Trail(tuple(drawn), False)
    now, closing, ahead = (share(span, end - start) for span in (last - start, closes - start, closes - last))
    return Trail(tuple(drawn), False, now, closing, ahead)


def _step(ground: Ground, before: int | None, here: int) -> tuple[bool, tuple[str, ...]]:
    """Whether a move went back, and the names of the stages in use that it skipped; a deal's first stay skips those before."""
    order = ground.open_stages(ground.stages[here].process, with_retired=False)
    place = {stage: number for number, stage in enumerate(order)}
    if here not in place or (before is not None and before not in place):
        return False, ()
    came_from = place[before] if before is not None else -1
    between = order[came_from + 1 : place[here]]
    return came_from > place[here], tuple(ground.stages[stage].name for stage in between)


def _span(line: ScopeLine, deal: int) -> tuple[int, int]:
    column = line.book.stays.deal
    return int(np.searchsorted(column, deal)), int(np.searchsorted(column, deal, side="right"))
