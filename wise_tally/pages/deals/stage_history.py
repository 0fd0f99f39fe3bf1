"""A deal's way through the stages, on an axis of days: who, when, how long, backwards and skipped."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np

from wise_tally.core.calendar import EPOCH, NO_DAY, local_days, midnight_ending
from wise_tally.core.deal_list import OwnStay, stays_of
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.domain.formats import day, days
from wise_tally.web.charts import Chart, Layer, Mark, Point, day_words
from wise_tally.web.filter_line import FilterLine


@dataclass(frozen=True)
class StageStay:
    """A stay with its moments in seconds; `skipped` names the stages between the one before and this one."""

    stage: str
    person: str
    entered_at: int
    left_at: int
    entered_on: int
    days: float
    over: float | None
    is_back: bool
    skipped: tuple[str, ...]

    @property
    def over_since(self) -> int:
        """The moment at which the typical days were over; that of leaving where they were not."""
        return self.left_at - int((self.over or 0) * DAY_SECONDS)

    @property
    def move(self) -> str:
        """The sign of a move back or over stages before the stage's name."""
        return "← " if self.is_back else "» " if self.skipped else ""


def stage_stays(line: FilterLine, deal: int) -> list[StageStay]:
    """The deal's stays in open stages up to the as-of midnight."""
    reference, stays = line.book.reference, stays_of(line.book, line.snapshot, deal)
    entered = local_days(np.array([stay.entered_at for stay in stays]), reference.time_zone).tolist() if stays else []
    before: list[OwnStay | None] = [None, *stays[:-1]]
    return [
        StageStay(
            reference.stages[stay.stage].name,
            reference.people[stay.owner].name,
            stay.entered_at,
            stay.left_at,
            on,
            stay.days,
            stay.over,
            *_step(reference, earlier.stage if earlier else None, stay.stage),
        )
        for stay, earlier, on in zip(stays, before, entered, strict=True)
    ]


def stages_chart(line: FilterLine, stays: Sequence[StageStay], close: int) -> Chart | None:
    """The stays as bands to the as-of midnight, days beyond the typical in ochre, an expected close (NO_DAY for none)."""
    if not stays:
        return None
    zone = line.book.reference.time_zone
    now, closes = stays[-1].left_at, midnight_ending(date.fromordinal(close), zone) if close != NO_DAY else 0
    moments = {moment for stay in stays for moment in (stay.entered_at, stay.over_since, stay.left_at)}
    times = sorted(moments | ({closes} if closes > now else set()))
    on = local_days(np.array(times), zone).tolist()
    marks = [Mark("stay-begin", f"{s.move}{s.stage} · {days(s.days)}", at=_share_of_width(s.entered_at)) for s in stays]
    if closes > now:
        marks.append(Mark("now", day(line.as_of) if line.is_past else "today", at=_share_of_width(now)))
        marks.append(Mark("close", "expected close", at=_share_of_width(closes)))
    bands = [
        _band(f"stay-{number % 2}", stay.entered_at, stay.left_at, 1.0, times) for number, stay in enumerate(stays)
    ]
    first, last = _share_of_width(times[0]), _share_of_width(times[-1])
    return Chart(
        key="stages",
        conclusion="Time in each stage: " + ", ".join(f"{stay.stage} {days(stay.days)}" for stay in stays),
        points=[Point(day(one), _words_at(moment, stays, now)) for one, moment in zip(on, times, strict=True)],
        layers=bands + [_band("over", stay.over_since, stay.left_at, 0.2, times) for stay in stays if stay.over],
        y_words=[(1, "")],
        x_words=[(min(max(one, first), last), words) for one, words in day_words(on[0], on[-1])],
        marks=marks,
        places=[_share_of_width(moment) for moment in times],
        edges=True,
        height=120,
    )


def _share_of_width(moment: int) -> float:
    """Where a moment stands on an axis of days."""
    return round(EPOCH + moment / DAY_SECONDS, 3)


def _band(css: str, first: int, last: int, height: float, times: Sequence[int]) -> Layer:
    return Layer("area", css, [height if first <= moment <= last else None for moment in times], steps=True)


def _words_at(moment: int, stays: Sequence[StageStay], now: int) -> list[tuple[str, str]]:
    """What happened at a moment of the picture."""
    entered = next((stay for stay in stays if stay.entered_at == moment), None)
    if entered:
        return [(f"entered {entered.stage}", entered.person), ("stayed", days(entered.days))]
    late = next((stay for stay in stays if stay.over and stay.over_since == moment), None)
    if late:
        return [(f"typical days of {late.stage} over", f"{days(late.over)} more since")]
    return [
        ("", "still in its stage" if moment == now else "expected close" if moment > now else "left the open stages")
    ]


def _step(reference: ReferenceData, before: int | None, after: int) -> tuple[bool, tuple[str, ...]]:
    """Whether a move went back, and the names of the stages in use that it skipped; a deal's first stay skips those before."""
    order = reference.open_stages(reference.stages[after].process, with_retired=False)
    index = {stage: number for number, stage in enumerate(order)}
    if after not in index or (before is not None and before not in index):
        return False, ()
    came_from = index[before] if before is not None else -1
    between = order[came_from + 1 : index[after]]
    return came_from > index[after], tuple(reference.stages[stage].name for stage in between)
