"""The pictures of forecast accuracy: submitted beside won period by period, and each rep's error as small bars."""

from collections.abc import Sequence

from django.urls import reverse

from wise_tally.core.calendar import Period
from wise_tally.core.forecast_accuracy import RecordsTogether
from wise_tally.domain.formats import percent, short
from wise_tally.web.charts import Chart, Layer, Point, money_marks
from wise_tally.web.filter_line import FilterLine, period_words

# An error beyond this, of what was won, reaches the edge of a rep's bars.
FULL = 0.5


def accuracy_chart(line: FilterLine, periods: Sequence[Period], whole: Sequence[RecordsTogether]) -> Chart:
    """What was won as columns, submitted as strokes, of those who submitted; periods come latest first."""
    shown = [pair for pair in zip(periods, whole, strict=True) if pair[1].submitted is not None][::-1]
    won, submitted = [one.won_where_submitted for _, one in shown], [one.submitted for _, one in shown]
    page = reverse("forecast:calls")
    return Chart(
        key="accuracy",
        conclusion=f"Submitted and won in {len(shown)} periods, of the reps who submitted",
        points=[
            Point(
                period_words(period),
                [
                    ("submitted at mid-period", short(one.submitted)),
                    ("won by them", short(one.won_where_submitted)),
                    ("submitted above what was won", percent(one.call_error, 0)),
                ],
                f"{page}?{line.query(period=period.text)}",
            )
            for period, one in shown
        ],
        layers=[Layer("columns", "solid", won), Layer("strokes", "earlier", submitted)],
        y_words=money_marks(max(*won, *(value or 0 for value in submitted), 1)),
        x_words=[(index, period_words(period)) for index, (period, _) in enumerate(shown)],
        enter="shows the submitted forecasts of this period",
        height=190,
    )


def error_bars(errors: Sequence[float | None]) -> list[tuple[int, float, float]]:
    """Bars of a strip 20 high around its middle, the oldest first: left, top, height. None has no bar."""
    oldest_first = enumerate(reversed(errors))
    bars = [(index * 12, max(-FULL, min(FULL, error)) / FULL * 9) for index, error in oldest_first if error is not None]
    return [(left, round(10 - max(high, 0), 1), max(round(abs(high), 1), 0.8)) for left, high in bars]
