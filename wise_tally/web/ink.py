"""Geometry of the ink bar and of plain bars, in percent of the width."""

from collections.abc import Sequence
from dataclasses import dataclass

GRADES = ("won", "commit", "best", "early")


@dataclass(frozen=True)
class Segment:
    """A stretch of one grade of certainty."""

    grade: str
    left: str
    width: str


@dataclass(frozen=True)
class InkBar:
    """Segments by falling certainty; marks for quota and pace, None where there is none."""

    segments: tuple[Segment, ...]
    quota: str | None
    pace: str | None
    words: str = ""


def ink_bar(won: int, categories: Sequence[int], quota: int | None, pace: int | None, largest: int) -> InkBar:
    """A bar on the scale of `largest`; `categories` are the counted ones, the surest first.

    The first category is drawn as commit, the last as early, those between as best case.
    """
    segments, left = [], 0
    grades = ["won", "commit", *["best"] * max(0, len(categories) - 2), *(["early"] if len(categories) > 1 else [])]
    for grade, value in zip(grades, (won, *categories), strict=False):
        if value > 0:
            segments.append(Segment(grade, share(left, largest), share(value, largest)))
            left += value
    return InkBar(tuple(segments), _mark(quota, largest), _mark(pace, largest))


def _mark(value: int | None, largest: int) -> str | None:
    return None if value is None else share(min(value, largest), largest)


def share(value: int, largest: int) -> str:
    """A value as a percentage of the largest, for a width."""
    return f"{value / largest * 100:.2f}%" if largest > 0 else "0%"
