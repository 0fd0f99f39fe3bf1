"""The picture of the cash calendar: what is due month by month, won and open, with what was booked as strokes."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from wise_tally.core.calendar import Period
from wise_tally.core.cash import CashPeriod
from wise_tally.domain.formats import day, short
from wise_tally.web.charts import Chart, Layer, Mark, Point, money_marks, month_words


@dataclass(frozen=True)
class MonthRow:
    """A month of the calendar with the queries of its workings; `booked_minor` is what was won in it."""

    words: str
    sums: CashPeriod
    query: str
    booked_query: str
    booked_minor: int


def cash_chart(months: Sequence[MonthRow], as_of: date, working: str) -> Chart:
    """Columns of won with open on it, up to the as-of day what was booked. `working` is the address of “due”."""
    begun = [one.sums.period for one in months if one.sums.period.starts_on <= as_of]
    won, due = [one.sums.won_minor for one in months], [one.sums.all_minor for one in months]
    booked = [one.booked_minor for one in months]
    return Chart(
        key="cash",
        conclusion=f"Due by month: {short(sum(won))} from won deals, {short(sum(due) - sum(won))} weighted from open ones",
        points=[
            Point(
                one.words,
                [
                    ("due from won deals", short(one.sums.won_minor)),
                    ("from open deals, weighted", short(one.sums.open_minor)),
                    ("booked", short(one.booked_minor)),
                ],
                f"{working}?{one.query}",
                panel=True,
            )
            for one in months
        ],
        layers=[
            Layer("columns", "solid", won),
            Layer("columns", "commit", due, won),
            # What is not booked yet would only show a row of strokes on the axis.
            Layer("strokes", "earlier", [value if index < len(begun) else None for index, value in enumerate(booked)]),
        ],
        y_words=money_marks(max(*due, *booked, 1)),
        x_words=month_words([one.sums.period.starts_on for one in months]),
        marks=[_as_of(begun, as_of)] if begun and as_of < months[-1].sums.period.ends_on else [],
        enter="shows the payments of this month",
    )


def _as_of(begun: Sequence[Period], as_of: date) -> Mark:
    """The as-of day within the last month that has begun; columns reach half a step to both sides."""
    passed = ((as_of - begun[-1].starts_on).days + 1) / begun[-1].days
    return Mark("now", day(as_of), at=len(begun) - 1.5 + passed)
