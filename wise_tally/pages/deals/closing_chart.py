"""The picture above the list: what its open deals come to by the month of their expected close."""

from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from wise_tally.core.deal_list import ListTotals, totals_by_close
from wise_tally.domain.formats import plural, short
from wise_tally.pages.deals.listing import Listing, ListQuery
from wise_tally.web.charts import Chart, Layer, Point, money_marks, month_words
from wise_tally.web.filter_line import FilterLine

MONTHS = 12
FEW = 2


@dataclass(frozen=True)
class ClosingMonth:
    """The first day of a month, the totals of its deals, and the list of just these."""

    first: date
    totals: ListTotals
    query: str


def closing_months(line: FilterLine, deal_list: Listing) -> list[ClosingMonth]:
    """The months of expected close in the list; none where fewer than two hold a deal."""
    months = totals_by_close(line.snapshot, deal_list.all_places, MONTHS)
    if sum(bool(totals.deals) for _, totals in months) < FEW:
        return []
    return [ClosingMonth(first, totals, _only(deal_list.query, first, _end_of(first))) for first, totals in months]


def _end_of(first: date) -> date:
    return (first + timedelta(days=32)).replace(day=1) - timedelta(days=1)


def _only(query: ListQuery, first: object, last: object) -> str:
    """The list of some days of closing: its filters of the close give way to those of the days; alternatives stay one group."""
    others = tuple(clause for clause in query.all_clauses if not clause.startswith("close:"))
    span = (f"close:from:{first}", f"close:to:{last}")
    return replace(query, clauses=(*others, *span), join="all", page="").query()


def closing(line: FilterLine, deal_list: Listing) -> dict[str, Any]:
    """The months and their picture for the list."""
    months = closing_months(line, deal_list)
    return {
        "closing_months": months,
        "chart": closing_chart(months, _only(deal_list.query, "FIRST", "LAST")) if months else None,
    }


def closing_chart(months: list[ClosingMonth], brush: str) -> Chart:
    """Amounts as columns, the weighted part of each in front; `brush` lists the months dragged across."""
    return Chart(
        key="closing",
        conclusion="Amounts of the listed deals by month of expected close",
        points=[
            Point(
                f"{month.first:%B %Y}",
                [
                    ("amount", short(month.totals.amount_minor)),
                    ("weighted", short(month.totals.weighted_minor)),
                    ("", plural(month.totals.deals, "deal")),
                ],
                f"?{month.query}" if month.totals.deals else "",
            )
            for month in months
        ],
        layers=[
            Layer("columns", "soft", [month.totals.amount_minor for month in months]),
            Layer("columns", "solid", [month.totals.weighted_minor for month in months]),
        ],
        y_words=money_marks(max(month.totals.amount_minor for month in months)),
        x_words=month_words([month.first for month in months]),
        enter="lists the deals of this month; drag across several, or Shift and an arrow, to choose them",
        height=120,
        brush=f"?{brush}",
        spans=[(str(month.first), str(_end_of(month.first))) for month in months],
    )
