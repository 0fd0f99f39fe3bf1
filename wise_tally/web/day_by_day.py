"""The picture of a period day by day: what was won and open so far, and where won may stand by its end."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from django.urls import reverse

from wise_tally.core.calls import calls_in_force
from wise_tally.core.daily_trend import Trend, trend
from wise_tally.core.derived import derived
from wise_tally.core.forecast import ForecastLines, forecast_lines
from wise_tally.core.outcome import likely_by_day
from wise_tally.core.outlook.by_day import likely_by_outlook
from wise_tally.core.row_targets import carries_quota
from wise_tally.core.targets import pace, quotas
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import day, short
from wise_tally.web.charts import Chart, Layer, Mark, Point, day_words, money_marks
from wise_tally.web.expectation import trust_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import scope_node

# How many days ahead the range is worked out for, the last day among them.
AHEAD = 4
# At most so many days are drawn, the last among them.
MOST_COLUMNS = 100
# Small lines show where a figure stood on each of the last ten weeks’ days like this one.
WEEKS = 10
GRADES = ("commit", "best", "early")


@dataclass(frozen=True)
class DayColumn:
    """One day (or the last of a few) with its figures in minor units, and the query of the forecast on that day."""

    day: int
    won: int
    categories: tuple[int, ...]
    weighted: int
    pace: int | None
    call: int | None
    query: str


@dataclass(frozen=True)
class DayByDay:
    """A period up to the as-of day: its lines, its days, what is to be won in it by its end and by now, and its picture.

    `node` is the row that its figures open the workings of; `categories` are figure and name, the surest first.
    """

    lines: ForecastLines
    days: list[DayColumn]
    quota: int | None
    pace: int | None
    node: str
    categories: list[tuple[str, str]]
    chart: Chart | None

    @property
    def weeks(self) -> list[DayColumn]:
        """The last day and every seventh one before it."""
        return [day for day in self.days if (self.days[-1].day - day.day) % 7 == 0]


def weeks_past(line: FilterLine) -> Trend:
    """The trend of the last ten weeks up to the as-of day."""
    return _lately(line, line.as_of).since(line.as_of - timedelta(weeks=WEEKS))


def _lately(line: FilterLine, last: date) -> Trend:
    """From ten weeks ago or, of a period not over, its start if that is earlier: all that a page shows of it is worked out once."""
    first = last - timedelta(weeks=WEEKS)
    if last <= line.period.ends_on:
        first = min(line.period.starts_on, first)
    return trend(line.book, line.period, first, last, line.scope)


def trend_of(line: FilterLine) -> Trend:
    """The trend from the period's start (at the latest today) to the as-of day or the period's end."""
    last = min(line.as_of, line.period.ends_on)
    first = min(line.period.starts_on, last)
    return _lately(line, last).since(first)


@derived()
def day_by_day(line: FilterLine, key: str) -> DayByDay:
    """The filter line's period day by day; `key` names the picture on its page, there is none before the period has a day."""
    reference = line.book.reference
    by, node, token = scope_node(line)
    carried = carries_quota(line.scope, by)
    quota = quotas(reference, line.as_of, line.period).of(by, node).value if carried else None
    to_date = pace(reference, line.as_of, line.period).of(by, node).value if carried else None
    days = _columns(line, trend_of(line))
    lines = forecast_lines(line.book, line.snapshot, line.period, line.scope, "company")
    categories = [(f"category:{c}", reference.categories[c].name) for c in reference.surest_first]
    chart = _chart(line, days, lines, quota, key) if days else None
    return DayByDay(lines, days, quota, to_date, token, categories, chart)


def _columns(line: FilterLine, trend: Trend) -> list[DayColumn]:
    """The days so far, at most a hundred of them, the last among them."""
    reference, surest = line.book.reference, list(line.book.reference.surest_first)
    by, node, _ = scope_node(line)
    carried = carries_quota(line.scope, by)
    every = -(-len(trend.days) // MOST_COLUMNS)
    shown = []
    for i in range((len(trend.days) - 1) % every, len(trend.days), every):
        on = date.fromordinal(int(trend.days[i]))
        call = calls_in_force(reference, on, line.period).get((by, NONE if by == "company" else node))
        shown.append(
            DayColumn(
                day=int(trend.days[i]),
                won=int(trend.won[i]),
                categories=tuple(int(value) for value in trend.categories[surest, i]),
                weighted=int(trend.weighted[i]),
                pace=pace(reference, on, line.period).of(by, node).value if carried else None,
                call=call.amount_minor if call and carried else None,
                query=line.query(as_of=on.isoformat(), period=line.period.text),
            )
        )
    return shown


def _chart(line: FilterLine, days: Sequence[DayColumn], lines: ForecastLines, quota: int | None, key: str) -> Chart:
    """Won, the open of each category on it, weighted, pace, submitted and quota; ahead, the likely range of won."""
    ahead = _days_ahead(days[-1].day, line)
    likely = _likely(line, lines, ahead)
    axis = [one.day for one in days] + ahead
    rest: list[None] = [None] * len(ahead)
    before: list[None] = [None] * (len(days) - 1)
    now = days[-1].won
    low, middle, high = ([*before, now, *(value[i] for value in likely)] if ahead else [] for i in range(3))
    layers = [Layer("area", "won", [*(one.won for one in days), *rest], steps=True), *_open_layers(days, rest)]
    layers.append(Layer("line", "toward", [*(one.pace for one in days), *rest]))
    layers.append(Layer("line", "submitted", [*(one.call for one in days), *rest], steps=True))
    layers.append(
        Layer("line", "weighted", [*(one.weighted for one in days), *rest], label="" if ahead else "weighted")
    )
    if ahead:
        layers.append(Layer("area", "likely", high, low))
        layers.append(Layer("line", "main", middle, label=f"{short(middle[-1])} · middle"))
        layers.append(Layer("line", "none", high, label=f"{short(high[-1])} · 9 in 10 below"))
        layers.append(Layer("line", "none", low, label=f"{short(low[-1])} · 1 in 10 below"))
    largest = max(quota or 0, *(one.won + sum(one.categories) for one in days), *(value[2] for value in likely), 1)
    marks = [Mark("quota", f"quota {short(quota)}", level=quota)] if quota else []
    if ahead:
        marks.append(Mark("now", "today" if not line.is_past else day(line.as_of), at=days[-1].day))
    points = [_past(one) for one in days] + [_future(*pair) for pair in zip(ahead, likely, strict=True)]
    return Chart(
        key=key,
        conclusion=f"Won {short(now)} by {day(days[-1].day)}"
        + (f", likely {short(low[-1])} to {short(high[-1])} by the end" if ahead else ""),
        points=points,
        layers=layers,
        y_words=money_marks(largest),
        x_words=day_words(axis[0], axis[-1]),
        places=axis,
        marks=marks,
        edges=True,
        height=320,
        enter="opens the forecast as of that day",
    )


def _likely(line: FilterLine, lines: ForecastLines, ahead: list[int]) -> tuple[tuple[int, int, int], ...]:
    """Where won may stand on each day, by what leads."""
    if not ahead or not trust_of(line).outlook_leads:
        return likely_by_day(lines, ahead)
    by = scope_node(line)[0]
    return likely_by_outlook(line.book, line.snapshot, line.period, line.scope, by, tuple(ahead))


def _days_ahead(last: int, line: FilterLine) -> list[int]:
    end = line.period.ends_on.toordinal()
    if last >= end or last < line.period.starts_on.toordinal():
        return []
    number = min(AHEAD, end - last)
    return [last + (end - last) * step // number for step in range(1, number + 1)]


def _open_layers(days: Sequence[DayColumn], rest: list[None]) -> list[Layer]:
    """The open of each category on what is surer."""
    layers, base = [], [day.won for day in days]
    for index in range(len(days[0].categories)):
        top = [foot + one.categories[index] for foot, one in zip(base, days, strict=True)]
        grade = GRADES[min(index, len(GRADES) - 1)]
        layers.append(Layer("area", grade, [*top, *rest], [*base, *rest], steps=True))
        base = top
    return layers


def _past(one: DayColumn) -> Point:
    rows = [
        ("won", short(one.won)),
        ("open in the forecast", short(sum(one.categories))),
        ("weighted", short(one.weighted)),
    ]
    rows += [("target to date", short(one.pace))] if one.pace is not None else []
    rows += [("submitted", short(one.call))] if one.call is not None else []
    return Point(day(one.day), rows, f"{reverse('forecast:page')}?{one.query}")


def _future(on: int, likely: tuple[int, int, int]) -> Point:
    low, middle, high = likely
    return Point(day(on), [("9 in 10 below", short(high)), ("middle", short(middle)), ("1 in 10 below", short(low))])
