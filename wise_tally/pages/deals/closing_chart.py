"""The picture above the list: what its open deals come to by the month of their expected close."""

from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import pairwise
from typing import Any

import numpy as np

from wise_tally.core.calendar import NO_DAY
from wise_tally.core.money import sum_by_group
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.formats import plural, short
from wise_tally.pages.deals.listing import Listing, ListQuery
from wise_tally.web.charts import Chart, Layer, Point, money_marks
from wise_tally.web.filter_line import FilterLine

MONTHS, SHORTEST = 12, 6
FEW = 2


@dataclass(frozen=True)
class ClosingMonth:
    """A month with the number, amount and weighted amount (minor units) of its deals, and the list of just these."""

    first: date
    deals: int
    amount_minor: int
    weighted_minor: int
    query: str


def closing_months(line: FilterLine, found: Listing) -> list[ClosingMonth]:
    """At most twelve months from the first expected close in the list on; none where fewer than two hold a deal."""
    snapshot = line.snapshot
    rows = found.all_places[snapshot.kind[found.all_places] == OPEN]
    rows = rows[snapshot.expected_close[rows] != NO_DAY]
    if not len(rows):
        return []
    close = snapshot.expected_close[rows]
    starts = [date.fromordinal(int(close.min())).replace(day=1)]
    while len(starts) <= MONTHS:
        starts.append((starts[-1] + timedelta(days=32)).replace(day=1))
    place = np.searchsorted([one.toordinal() for one in starts], close, side="right") - 1
    rows, place = rows[place < MONTHS], place[place < MONTHS]
    sums = [sum_by_group(column[rows], place, MONTHS) for column in (snapshot.amount_minor, snapshot.weighted_minor)]
    number = np.bincount(place, minlength=MONTHS)
    if np.count_nonzero(number) < FEW:
        return []
    return [
        ClosingMonth(first, int(number[i]), int(sums[0][i]), int(sums[1][i]), _only(found.asked, first, after))
        for i, (first, after) in enumerate(pairwise(starts))
        if i <= max(int(place.max()), SHORTEST - 1)
    ]


def _only(asked: ListQuery, first: date, after: date) -> str:
    """The list of one month: its filters of the close give way to those of the month."""
    kept = tuple(one for one in asked.clauses if not one.startswith("close:"))
    span = (f"close:from:{first}", f"close:to:{after - timedelta(days=1)}")
    return replace(asked, clauses=(*kept, *span), page="").query()


def closing(line: FilterLine, found: Listing) -> dict[str, Any]:
    """The months and their picture for the list."""
    months = closing_months(line, found)
    return {"closing_months": months, "chart": closing_chart(months) if months else None}


def closing_chart(months: list[ClosingMonth]) -> Chart:
    """Amounts as columns, the weighted part of each in front."""
    return Chart(
        key="closing",
        conclusion="Amounts of the listed deals by month of expected close",
        points=[
            Point(
                f"{one.first:%B %Y}",
                [
                    ("amount", short(one.amount_minor)),
                    ("weighted", short(one.weighted_minor)),
                    ("", plural(one.deals, "deal")),
                ],
                f"?{one.query}" if one.deals else "",
            )
            for one in months
        ],
        layers=[
            Layer("columns", "soft", [one.amount_minor for one in months]),
            Layer("columns", "solid", [one.weighted_minor for one in months]),
        ],
        y_words=money_marks(max(one.amount_minor for one in months)),
        x_words=[
            (i, f"{m.first:%b}" + (f" ’{m.first:%y}" if i == 0 or m.first.month == 1 else ""))
            for i, m in enumerate(months)
        ],
        enter="lists the deals of this month",
        height=150,
    )
