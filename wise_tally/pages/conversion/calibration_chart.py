"""The picture of the probability check: how often deals were won against the probability that was set."""

from collections.abc import Sequence

from wise_tally.core.observed_rates import ObservedRate
from wise_tally.domain.formats import count, percent
from wise_tally.web.charts import Chart, Layer, Mark, Point, rate_marks

# Radii of the dots in px, of few deals and of the most.
SMALLEST, LARGEST = 3.0, 11.0


def calibration_chart(stages: Sequence[tuple[str, ObservedRate, str]]) -> Chart | None:
    """Stages with closed deals by their set probability: name, rate, address of the working. None where there are none.

    On the rising line the actual win rate is the one that was set; a dot grows with the square root of its deals.
    """
    shown = sorted((stage for stage in stages if stage[1].observed is not None), key=lambda one: one[1].set_rate)
    if not shown:
        return None
    rates = [rate for _, rate, _ in shown]
    most = max(rate.decided for rate in rates)
    set_rates, intervals = [rate.set_rate for rate in rates], [_interval(rate) for rate in rates]
    sizes = [round(SMALLEST + (LARGEST - SMALLEST) * (rate.decided / most) ** 0.5, 1) for rate in rates]
    return Chart(
        key="calibration",
        conclusion="Actual win rate against set probability: "
        + ", ".join(_words(name, rate) for name, rate, _ in shown),
        points=[Point(name, _rows(rate), href, panel=True) for name, rate, href in shown],
        layers=[
            Layer("line", "goal", set_rates),
            Layer("spans", "before", [high for high, _ in intervals], [low for _, low in intervals]),
            Layer("dots", "value", [rate.observed if not rate.off else None for rate in rates], sizes=sizes),
            Layer("dots", "unusual", [rate.observed if rate.off else None for rate in rates], sizes=sizes),
        ],
        y_words=rate_marks(1.0),
        x_words=[(index / 4, f"{index * 25}" + (" % set" if index == 4 else "")) for index in range(5)],
        marks=[Mark("none", name, at=rate.set_rate) for name, rate, _ in shown],
        edges=True,
        places=set_rates,
        ends=(0, 1),
        enter="shows the deals behind this rate",
    )


def _interval(rate: ObservedRate) -> tuple[float | None, float | None]:
    """The upper and the lower bound."""
    return (rate.interval.high, rate.interval.low) if rate.interval else (None, None)


def _words(name: str, rate: ObservedRate) -> str:
    return f"{name} {percent(rate.observed, 0)} for {percent(rate.set_rate, 0)}"


def _rows(rate: ObservedRate) -> list[tuple[str, str]]:
    rows = [("set", percent(rate.set_rate)), ("actual", percent(rate.observed)), ("closed deals", count(rate.decided))]
    if rate.interval:
        rows.insert(2, ("likely range", f"{percent(rate.interval.low, 0)} to {percent(rate.interval.high, 0)}"))
    return rows
