"""Pictures as the browser draws them: raw numbers in layers, and the words of each point made here.

`static/web/charts.js` draws what `Chart.raw` holds; the table of the same values stands beside it in the page.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from math import ceil
from typing import Any, Literal

from wise_tally.domain import formats
from wise_tally.web.ticks import round_ticks

Shape = Literal["area", "columns", "line", "dots", "strokes", "spans"]
Numbers = Sequence[int | float | None]


@dataclass(frozen=True)
class Layer:
    """A row of values drawn in one way: `base` is what an area, a column or a span stands on, `label` stands at a line's
    end, on a narrow screen only its part before “ · ”. `sizes` are the radii of dots in px.
    """

    shape: Shape
    css: str
    values: Numbers
    base: Numbers = ()
    label: str = ""
    steps: bool = False
    sizes: Numbers = ()


@dataclass(frozen=True)
class Mark:
    """A line across the picture with its words: at a height (`level`), or at a place on the x axis (`at`).

    On a narrow screen only the words before “ · ” are shown.
    """

    css: str
    words: str
    level: float | None = None
    at: float | None = None


@dataclass(frozen=True)
class Point:
    """What the reading line says at one place: a title, names with values, and where Enter leads.

    `panel` tells that the address opens a working beside the page, not a page of its own.
    """

    title: str
    rows: Sequence[tuple[str, str]]
    href: str = ""
    panel: bool = False


@dataclass(frozen=True)
class Chart:
    """A picture: layers over the same points, the marks of both axes in words, what it says as a whole.

    With `edges` the first and the last point stand at the ends of the axis, as for a course of time; else each in the
    middle of its column. `places` gives where points stand between the ends, in any unit that `x_words` and marks share
    (days, say); without it they stand at equal steps, counted from 0. `ends` are those of the x axis where points do not
    reach them. `low` is where the y axis begins. Points dragged across lead to `brush`, an address with FIRST and LAST in
    place of the first and the last day of what was chosen; `spans` are those of each point.
    """

    key: str
    conclusion: str
    points: Sequence[Point]
    layers: Sequence[Layer]
    y_words: Sequence[tuple[float, str]]
    x_words: Sequence[tuple[float, str]]
    marks: Sequence[Mark] = field(default_factory=tuple)
    edges: bool = False
    places: Sequence[float] = ()
    ends: tuple[float, float] | None = None
    low: float = 0
    enter: str = ""
    height: int = 250
    brush: str = ""
    spans: Sequence[tuple[str, str]] = ()

    @property
    def raw(self) -> dict[str, Any]:
        """The picture as the script reads it."""
        return {
            "layers": [
                vars(layer) | {"values": list(layer.values), "base": list(layer.base), "sizes": list(layer.sizes)}
                for layer in self.layers
            ],
            "marks": [vars(mark) for mark in self.marks],
            "points": [vars(point) | {"rows": list(point.rows)} for point in self.points],
            "y": list(self.y_words),
            "x": list(self.x_words),
            "low": self.low,
            "edges": self.edges,
            "ends": self.ends,
            "places": list(self.places) or list(range(len(self.points))),
            "enter": self.enter,
            "brush": self.brush,
            "spans": list(self.spans),
        }


def money_marks(largest: int, smallest: int = 0) -> list[tuple[float, str]]:
    """Round marks of an axis of money, in minor units: all in the unit of the largest, with as few decimals as fit.

    From 0 to the first at or above the largest; with `smallest`, those that lie between the two.
    """
    step = round_ticks(max(largest - smallest, 1))[0]
    first = max(1, -(-smallest // step))
    ticks = [step * index for index in range(first, max(-(-largest // step), first) + 1)]
    if smallest:
        return [one for one in zip(ticks, _money_words(ticks), strict=True) if smallest <= one[0] <= largest]
    return [(0, "0"), *zip(ticks, _money_words(ticks), strict=True)]


def _money_words(ticks: Sequence[int]) -> list[str]:
    whole = 10 ** formats.currency_decimals()
    size, letter = next(((n, s) for n, s in ((1_000_000, "m"), (1_000, "k")) if ticks[-1] >= n * whole), (1, ""))
    places = next(n for n in range(4) if n == 3 or ticks[0] * 10**n % (size * whole) == 0)
    return [f"{tick / (size * whole):.{places}f}{formats.SPACE}{letter}".strip() for tick in ticks]


def number_marks(largest: int) -> list[tuple[float, str]]:
    """Round marks of an axis of numbers from 0."""
    return [(0, "0"), *((value, formats.count(value)) for value in round_ticks(max(largest, 1)))]


def rate_marks(largest: float) -> list[tuple[float, str]]:
    """Round marks of an axis of rates (0 to 1) from 0, in per cent."""
    ticks = round_ticks(max(1, round(largest * 10_000)))
    return [(0, "0"), *((value / 10_000, formats.points(value)) for value in ticks)]


def month_words(starts: Sequence[date]) -> list[tuple[float, str]]:
    """The names of months that follow one another, at the steps of a picture; the year with the first and each January."""
    return [(i, f"{one:%b}" + (f" ’{one:%y}" if i == 0 or one.month == 1 else "")) for i, one in enumerate(starts)]


def day_words(first: int, last: int) -> list[tuple[float, str]]:
    """Marks of an axis of days (ordinals): the first day, the first of each month, the last day; the year where it changes."""
    words: list[tuple[float, str]] = [(first, formats.day(first))]
    month = date.fromordinal(first).replace(day=1)
    while (month := (month + timedelta(days=32)).replace(day=1)).toordinal() < last:
        words.append((month.toordinal(), f"{month:%b %Y}" if month.month == 1 else f"{month:%b}"))
    return [*words, (last, formats.day(last))]


def marks_of(shape: str, largest: float) -> list[tuple[float, str]]:
    """Round marks for values of a shape: money, count, days, percent or times."""
    if shape == "percent":
        return rate_marks(largest)
    return money_marks(round(largest)) if shape == "money" else number_marks(max(1, ceil(largest)))
