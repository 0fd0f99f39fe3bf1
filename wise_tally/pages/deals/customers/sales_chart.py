"""The picture of a customer's sales: the last twelve months as columns, the same months a year before as strokes."""

from collections.abc import Sequence

from django.urls import reverse

from wise_tally.core.calendar import Period
from wise_tally.core.customer import Sale, SalesRow, all_sales
from wise_tally.domain.formats import short
from wise_tally.web.charts import Chart, Layer, Point, money_marks, month_words
from wise_tally.web.filter_line import FilterLine, period_words

MONTHS = 12


def last_months(line: FilterLine) -> list[Period]:
    """The month of the as-of day and those before it, the oldest first."""
    fiscal = line.book.reference.fiscal
    present = fiscal.containing(line.as_of, "month")
    return [fiscal.shifted(present, step) for step in range(1 - MONTHS, 1)]


def sales_by_month(line: FilterLine, sales: Sequence[Sale]) -> list[tuple[Period, SalesRow]]:
    """The last twelve months, each beside the same month a year before; the last is only begun."""
    fiscal = line.book.reference.fiscal
    return [(month, all_sales(sales, month, fiscal.shifted(month, -MONTHS))) for month in last_months(line)]


def sales_chart(line: FilterLine, months: Sequence[tuple[Period, SalesRow]], account: str) -> Chart | None:
    """The months as a picture, each opening its invoices; None where nothing was sold in either year."""
    values = [(row.this_minor, row.before_minor) for _, row in months]
    if not any(map(any, values)):
        return None
    working = reverse("customers:figure", args=[account, "sales"])
    return Chart(
        key="sales",
        conclusion=f"Sales of twelve months, {short(sum(this for this, _ in values))}, by month",
        points=[
            Point(
                period_words(month) + (" so far" if month.ends_on > line.as_of else ""),
                [("sales", short(row.this_minor)), ("same month last year", short(row.before_minor))],
                f"{working}?{line.query()}&month={month.text}",
                panel=True,
            )
            for month, row in months
        ],
        # Where credit notes outweigh sales a month has no column; its words give the sum.
        layers=[
            Layer("columns", "solid", [max(this, 0) for this, _ in values]),
            Layer("strokes", "earlier", [max(before, 0) for _, before in values]),
        ],
        y_words=money_marks(max(1, *map(max, values))),
        x_words=month_words([month.starts_on for month, _ in months]),
        enter="shows the invoices of this month",
        height=190,
    )
