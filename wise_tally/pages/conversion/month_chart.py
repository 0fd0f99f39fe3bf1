"""Pictures of the monthly trend: each month, three months together, the year before, and what is unusual."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.urls import reverse

from wise_tally.core.monthly_trend import SpanFigures, Usual, of_three_months
from wise_tally.domain.formats import count, days, percent, short
from wise_tally.web.charts import Chart, Layer, Point, marks_of
from wise_tally.web.filter_line import FilterLine, period_words

SHOWN = 24
YEAR = 12
FOLLOWED = (
    ("created", "new deals", "count"),
    ("created_value", "value of new deals", "money"),
    ("mean_created", "average size of new deals", "money"),
    ("won", "deals won", "count"),
    ("win_rate", "win rate of closed deals", "percent"),
    ("mean_won", "average deal size won", "money"),
    ("days_to_win", "average days to win", "days"),
)
# What has a picture of its own; the rest stands in the table.
DRAWN = ("created", "win_rate", "mean_won", "days_to_win")
WRITTEN: dict[str, Callable[..., str]] = {
    "count": lambda value: count(None if value is None else round(value)),
    "money": lambda value: short(None if value is None else round(value)),
    "percent": percent,
    "days": days,
}


@dataclass(frozen=True)
class MonthCell:
    """A value of one month, and what the months before make of it."""

    value: float | None
    unusual: Usual | None

    @property
    def stands_out(self) -> bool:
        """Whether the months before make it unusual."""
        return self.value is not None and self.unusual is not None and self.unusual.is_unusual(self.value)


@dataclass(frozen=True)
class Series:
    """A followed value with a cell a month, the latest last."""

    name: str
    words: str
    shape: str
    cells: list[MonthCell]


def month_chart(line: FilterLine, series: Series, figures: Sequence[SpanFigures]) -> Chart:
    """A followed value over two years, its three-month line, and the same month a year before."""
    write, shown = WRITTEN[series.shape], figures[-SHOWN:]
    values = [cell.value for cell in series.cells]
    smooth = of_three_months(figures, series.name)[-SHOWN:]
    before = [getattr(figure, series.name) for figure in figures[: len(figures) - YEAR]][-SHOWN:]
    earlier = [*[None] * (SHOWN - len(before)), *before]
    odd = [cell.value if cell.stands_out else None for cell in series.cells]
    largest = max([1e-9, *(value for value in (*values, *smooth, *earlier) if value is not None)])
    query = line.query(process=line.process_value)
    working = reverse("conversion:over-time-working", args=[series.name])
    points = []
    for index, one in enumerate(shown):
        rows = [
            (series.words, write(values[index])),
            ("three months", write(smooth[index])),
            ("a year before", write(earlier[index])),
        ]
        rows += [("unusual", "yes")] if odd[index] is not None else []
        points.append(Point(period_words(one.period), rows, f"{working}?{query}&month={one.period.text}", panel=True))
    last = next((value for value in reversed(smooth) if value is not None), None)
    return Chart(
        key=f"month-{series.name}",
        conclusion=f"{series.words}, {write(values[-1])} in {period_words(shown[-1].period)}",
        points=points,
        layers=[
            Layer("strokes", "before", earlier),
            Layer("line", "main", smooth, label=write(last) if last is not None else ""),
            Layer("dots", "value", values),
            Layer("dots", "unusual", odd),
        ],
        y_words=marks_of(series.shape, largest),
        x_words=_month_words(shown),
        edges=True,
        enter="shows how this figure is calculated",
        height=190,
    )


def _month_words(shown: Sequence[SpanFigures]) -> list[tuple[float, str]]:
    """Each third month with its year."""
    return [(index, f"{shown[index].period.starts_on:%b ’%y}") for index in range(0, len(shown), 3)]
